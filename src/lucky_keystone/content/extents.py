"""Where bytes lie: extents of a drive, and the arithmetic of alignment."""

from __future__ import annotations

from msgspec import Struct

from .contents import Content

MIB = 1 << 20


def align_up(offset: int, step: int) -> int:
    """Return the first multiple of `step` at or after `offset` (both in the same unit)."""
    return -(-offset // step) * step


class Extent(Struct, frozen=True):
    """`content` lies at byte `offset` of the drive."""

    offset: int
    content: Content

    @property
    def end(self) -> int:
        """The first byte behind the extent."""
        return self.offset + self.content.size
