"""How drawings show things: what a colour says, a hatching or a sign says as well."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from msgspec import Struct

SIGNS: Mapping[str, str] = MappingProxyType({"starts": "✓", "will not start": "✗", "not known": "?"})
"""Of verdicts."""


class Look(Struct, frozen=True):
    """Colour and hatching of a kind of volume."""

    colour: str
    hatch: str
    """As matplotlib has it."""
    pattern: str
    """The same as SVG, on a tile of 8 by 8."""


_LOOKS = {
    "FAT32": Look("#3f7d8c", "///", '<path d="M0 8 8 0" stroke="#fff" stroke-width="1.2"/>'),
    "NTFS": Look("#4f6fa8", "\\\\\\", '<path d="M0 0 8 8" stroke="#fff" stroke-width="1.2"/>'),
    "HFS+": Look("#7a5c99", "xxx", '<path d="M0 0 8 8M0 8 8 0" stroke="#fff" stroke-width="1"/>'),
    "image": Look("#2f6b4f", "...", '<circle cx="4" cy="4" r="1.3" fill="#fff"/>'),
}
_OTHER = Look("#8c8567", "---", '<path d="M0 4H8" stroke="#fff" stroke-width="1.2"/>')


def look_of(kind: str) -> Look:
    """Return how a kind of volume is drawn."""
    return _LOOKS.get(kind, _OTHER)
