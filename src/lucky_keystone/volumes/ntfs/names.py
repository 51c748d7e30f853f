"""Names on NTFS: which can be stored, in which namespaces, and volume labels."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from ...tree import Folder
from ..names import FORBIDDEN, name_fault, refuse_names
from ..shortnames import ShortNames
from .records import NAME_BOTH, NAME_LONG, NAME_POSIX, NAME_SHORT
from .upcase import upcase

_LONGEST_LABEL = 32


def refuse_problems(root: Folder, own: Iterable[str]) -> None:
    """Raise SourceError when systems could not reach every name below `root`, or one is the volume's `own`."""
    taken = {upcase(name) for name in own}
    found = [f"{name}: is a name of the volume's own" for name in root.entries if upcase(name) in taken]
    found += [
        f"{path}: {wrong}" for path, _ in root.walk() if (wrong := name_fault(path[path.rfind("/") + 1 :], FORBIDDEN))
    ]
    refuse_names(found, "NTFS")


def stored_names(folder: Folder) -> dict[str, tuple[tuple[str, int], ...]]:
    """Return, for each name in `folder`, the names it is stored under, each with its namespace.

    A name that fits 8.3 is both long and short; another one gets a short name beside it. Names that differ in case only
    are POSIX names and have no short ones: systems that fold case see the first of them.
    """
    folded = [upcase(name) for name in folder.entries]
    several = (
        {name for name, count in Counter(folded).items() if count > 1}
        if len(set(folded)) < len(folded)
        else frozenset()
    )
    short = ShortNames(folder.entries)
    result: dict[str, tuple[tuple[str, int], ...]] = {}
    for name, upper in zip(folder.entries, folded, strict=True):
        if upper in several:
            result[name] = ((name, NAME_POSIX),)
        elif short.is_own(name):
            result[name] = ((name, NAME_BOTH),)
        else:
            result[name] = ((name, NAME_LONG), (_dotted(short.of(name)), NAME_SHORT))
    return result


def _dotted(stored: bytes) -> str:
    base, extension = stored[:8].decode("ascii").rstrip(), stored[8:].decode("ascii").rstrip()
    return f"{base}.{extension}" if extension else base


def label_fault(label: str) -> str:
    """Return what is wrong with an NTFS volume label, '' when it can be stored."""
    units = len(label.encode("utf-16-le", "surrogatepass")) // 2
    if not 1 <= units <= _LONGEST_LABEL:
        return f"has {units} characters; 1 to {_LONGEST_LABEL} are stored"
    bad = sorted(set(label) & FORBIDDEN)
    if bad:
        return "holds " + " ".join(repr(character) for character in bad)
    return "begins or ends with a blank" if label != label.strip() else ""
