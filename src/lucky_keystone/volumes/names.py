"""Names that systems can reach on a volume, and the refusal of those they cannot."""

from __future__ import annotations

from collections.abc import Set as AbstractSet

from ..common.errors import SourceError

CONTROLS = frozenset(chr(code) for code in range(32))
FORBIDDEN = frozenset('"*/:<>?\\|') | CONTROLS
"""Characters that Windows takes in no name, whatever the file system."""
LONGEST = 255  # UTF-16 units, on FAT and on NTFS alike
_LISTED = 20


def name_fault(name: str, forbidden: AbstractSet[str]) -> str:
    """Return why systems cannot reach a file of this name, '' when they can."""
    if not forbidden.isdisjoint(name):
        return "holds " + " ".join(repr(character) for character in sorted(set(name) & forbidden))
    if name.endswith((".", " ")):
        return "ends with a dot or a blank"
    try:
        units = len(name.encode("utf-16-le")) // 2
    except UnicodeEncodeError:
        return "is not valid Unicode"
    return f"has {units} characters, at most {LONGEST} are allowed" if units > LONGEST else ""


def refuse_names(found: list[str], file_system: str) -> None:
    """Raise SourceError with the list, a line for each name that `file_system` cannot hold, unless it is empty."""
    if found:
        more = f" (and {len(found) - _LISTED} more)" if len(found) > _LISTED else ""
        raise SourceError(
            f"{file_system} cannot hold {len(found)} of the source's names: " + "; ".join(found[:_LISTED]) + more + ".",
            advice="Rename them in a copy of the source.",
        )
