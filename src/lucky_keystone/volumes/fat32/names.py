"""Names on FAT: which can be stored, and the entries of long ones."""

from __future__ import annotations

from ...content.tree import Folder
from ..names import FORBIDDEN, name_fault, refuse_names
from ..shortnames import SHORT_CHARACTERS, fold
from .records import LAST_LONG_ENTRY, LongEntry, short_name_checksum

_FORBIDDEN = FORBIDDEN | {"\x7f"}


def problems(root: Folder) -> list[str]:
    """Return one line for each name below `root` that FAT cannot hold, and for each pair that differs in case only."""
    found: list[str] = []
    folders = [("", root)] + [(path + "/", entry) for path, entry in root.walk() if isinstance(entry, Folder)]
    for prefix, folder in folders:
        spelled: dict[str, str] = {}
        for name in folder.entries:
            wrong = name_fault(name, _FORBIDDEN)
            if wrong:
                found.append(f"{prefix}{name}: {wrong}")
            other = spelled.setdefault(fold(name), name)
            if other != name:
                found.append(f"{prefix}{name} and {prefix}{other}: differ in case only")
    return found


def refuse_problems(root: Folder) -> None:
    """Raise SourceError with the list when FAT cannot hold every name below `root`."""
    refuse_names(problems(root), "FAT")


def long_entries(name: str, short: bytes) -> bytes:
    """Return the long-name entries of `name` in their order on disk: last piece first."""
    units = name.encode("utf-16-le")
    count = -(-len(units) // 26)
    if len(units) % 26:  # a name that does not fill its entries ends with 0000h and is padded with FFFFh
        units = (units + b"\0\0").ljust(count * 26, b"\xff")
    checksum = short_name_checksum(short)
    entries: list[bytes] = []
    for number in range(count, 0, -1):
        piece = units[(number - 1) * 26 : number * 26]
        entries.append(
            LongEntry(
                LDIR_Ord=number | (LAST_LONG_ENTRY if number == count else 0),
                LDIR_Name1=piece[:10],
                LDIR_Chksum=checksum,
                LDIR_Name2=piece[10:22],
                LDIR_Name3=piece[22:],
            ).pack()
        )
    return b"".join(entries)


def label_bytes(label: str) -> bytes:
    """Return a volume label that `label_fault` finds nothing wrong with as its 11 bytes."""
    return label.upper().encode("ascii").ljust(11)


def label_fault(label: str) -> str:
    """Return what is wrong with a FAT volume label, '' when it can be stored."""
    if not label or len(label) > 11:
        return f"has {len(label)} characters; 1 to 11 are stored"
    allowed = SHORT_CHARACTERS | {0x20}
    bad = sorted({c for c in label.upper() if not c.isascii() or ord(c) not in allowed})
    if bad:
        return "holds " + " ".join(repr(c) for c in bad)
    return "begins or ends with a blank" if label != label.strip() else ""
