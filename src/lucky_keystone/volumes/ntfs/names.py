"""Names on NTFS: which can be stored, in which namespaces, and volume labels."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

from ...common.errors import SourceError
from ...content.tree import Folder
from ..names import FORBIDDEN, LONGEST, name_fault, refuse_names
from ..shortnames import ShortNames
from .records import NAME_BOTH, NAME_LONG, NAME_POSIX, NAME_SHORT
from .upcase import upcase

_LONGEST_LABEL = 32
_NEVER_STORED = frozenset("/\\\0")


def refuse_problems(root: Folder, own: Iterable[str]) -> None:
    """Raise SourceError when systems could not reach every name below `root`, or one is the volume's `own`."""
    taken = {upcase(name) for name in own}
    found = [f"{name}: is a name of the volume's own" for name in root.entries if upcase(name) in taken]
    fault = _stored_fault if root.special.ntfs is not None else _reached_fault
    found += [f"{path}: {wrong}" for path, _ in root.walk() if (wrong := fault(path[path.rfind("/") + 1 :]))]
    refuse_names(found, "NTFS")


def _reached_fault(name: str) -> str:
    return name_fault(name, FORBIDDEN)


def _stored_fault(name: str) -> str:
    """Return why the volume cannot hold a name that another one held: systems need not be able to reach it."""
    if not _NEVER_STORED.isdisjoint(name):
        return "holds " + " ".join(repr(character) for character in sorted(set(name) & _NEVER_STORED))
    units = len(name) if name.isascii() else len(name.encode("utf-16-le", "surrogatepass")) // 2
    return "" if 1 <= units <= LONGEST else f"has {units} characters, at most {LONGEST} are allowed"


def stored_names(folder: Folder) -> dict[str, tuple[tuple[str, int], ...]]:
    """Return, for each name in `folder`, the names it is stored under, each with its namespace.

    A name that fits 8.3 is both long and short; another one gets a short name beside it: one that is made up, or of a
    folder that comes from such a volume the one that it had there, if any. Names that differ in case only are POSIX
    names and have no short ones: systems that fold case see the first of them.

    Raises SourceError for invalid short names.
    """
    facts = folder.special.ntfs
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
        elif facts is not None:
            given = facts.short_names.get(name)
            result[name] = ((name, NAME_LONG), (given, NAME_SHORT)) if given else ((name, NAME_POSIX),)
        else:
            result[name] = ((name, NAME_LONG), (_dotted(short.of(name)), NAME_SHORT))
    if facts is not None and facts.short_names:
        _refuse_short_names(facts.short_names, folded)
    return result


def _refuse_short_names(given: Mapping[str, str], folded: Sequence[str]) -> None:
    """Raise SourceError where a short name is invalid, or another entry of the folder has it."""
    taken = set(folded)
    for name, short in given.items():
        base, dot, extension = short.partition(".")
        fits = 1 <= len(base) <= 8 and len(extension) <= 3 and bool(extension) == bool(dot)
        upper = upcase(short)
        if not fits or not FORBIDDEN.isdisjoint(base + extension) or (upper in taken and upper != upcase(name)):
            raise SourceError(
                f"'{name}' has the short name '{short}', which is invalid or belongs to another file of its folder.",
                advice="The image is damaged; get it again.",
            )
        taken.add(upper)


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
