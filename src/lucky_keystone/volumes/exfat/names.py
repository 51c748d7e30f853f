"""Names on exFAT: how they are folded by a volume's up-case table, which can be stored, and volume labels."""

from __future__ import annotations

from collections.abc import Mapping

from ...common.later import np
from ...content.tree import Folder
from ..names import FORBIDDEN, name_fault
from ..ntfs.upcase import upcase, upcase_table
from .records import MOST_LABEL, VolumeTable

_IDENTITY = 0xFFFF
"""7.2.5: says in a compressed table that as many units as the next one says stay as they are."""
_UNITS = 0x1_0000


def compressed_table() -> bytes:
    """Return the up-case table of our volumes, compressed: runs of units that stay as they are become two units."""
    table = np.frombuffer(upcase_table(), "<u2")
    same = table == np.arange(_UNITS)
    ends = np.flatnonzero(np.diff(same.astype(np.int8))) + 1
    pieces: list[bytes] = []
    for start, end in zip([0, *ends.tolist()], [*ends.tolist(), _UNITS], strict=True):
        if same[start] and end - start > 2:
            pieces.append(_IDENTITY.to_bytes(2, "little") + (end - start).to_bytes(2, "little"))
        else:
            pieces.append(table[start:end].tobytes())
    return b"".join(pieces)


def read_table(data: bytes) -> VolumeTable | None:
    """Return what a volume's table changes; None for one that is not valid (7.2.5)."""
    units = np.frombuffer(data[: len(data) // 2 * 2], "<u2").tolist()
    changed: dict[int, int] = {}
    at = unit = 0
    while at < len(units) and unit < _UNITS:
        if units[at] == _IDENTITY and at + 1 < len(units) and unit + units[at + 1] <= _UNITS and unit != _IDENTITY:
            unit += units[at + 1]
            at += 2
            continue
        if units[at] != unit:
            changed[unit] = units[at]
        at, unit = at + 1, unit + 1
    is_whole = at == len(units) and all(changed.get(ord(c)) == ord(c.upper()) for c in "abcdefghijklmnopqrstuvwxyz")
    return changed if is_whole else None


def folded(name: str, table: Mapping[int, int]) -> bytes:
    """Return the units of a name in upper case, as its hash is taken of them."""
    units = np.frombuffer(name.encode("utf-16-le", "surrogatepass"), "<u2").tolist()
    return np.array([table.get(unit, unit) for unit in units], "<u2").tobytes()


def problems(root: Folder) -> list[str]:
    """Return one line for each name below `root` that exFAT cannot hold; names that differ in case only are one."""
    found: list[str] = []
    for prefix, folder in [("", root), *((f"{path}/", each) for path, each in root.walk() if isinstance(each, Folder))]:
        spelled: dict[str, str] = {}
        for name in folder.entries:
            if wrong := name_fault(name, FORBIDDEN):
                found.append(f"{prefix}{name}: {wrong}")
            other = spelled.setdefault(upcase(name), name)
            if other != name:
                found.append(f"{prefix}{name} and {prefix}{other}: differ in case only")
    return found


def label_fault(label: str) -> str:
    """Return what is wrong with a volume label, '' when it can be stored."""
    units = len(label.encode("utf-16-le", "surrogatepass")) // 2
    if not 1 <= units <= MOST_LABEL:
        return f"has {units} characters; 1 to {MOST_LABEL} are stored"
    bad = sorted({c for c in label if c in FORBIDDEN or ord(c) < 0x20})
    if bad:
        return "holds " + " ".join(repr(c) for c in bad)
    return "begins or ends with a blank" if label != label.strip() else ""
