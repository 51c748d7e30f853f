"""Where bytes lie: extents of a drive, and the arithmetic of alignment."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from .content import Content

MIB = 1 << 20


def align_up(offset: int, step: int) -> int:
    """Return the first multiple of `step` at or after `offset` (both in the same unit)."""
    return -(-offset // step) * step


@dataclass(frozen=True)
class Extent:
    """`content` lies at byte `offset` of the drive."""

    offset: int
    content: Content

    @property
    def end(self) -> int:
        """The first byte behind the extent."""
        return self.offset + self.content.size


@dataclass(frozen=True)
class Region:
    """A run of neighbouring extents that mean one thing (a table, one FAT, all files).

    `kind` is one of: table, manifest, reserved, fat1, fat2, folders, files.
    """

    kind: str
    extents: tuple[Extent, ...]

    @property
    def offset(self) -> int:
        """First byte on the drive."""
        return self.extents[0].offset

    @property
    def size(self) -> int:
        """Length in bytes."""
        return self.extents[-1].end - self.offset


def region(kind: str, extents: Iterable[Extent]) -> Region:
    """Make a region, proving that its extents follow each other without gap or overlap."""
    ordered = tuple(extent for extent in extents if extent.content.size)
    for before, after in zip(ordered, ordered[1:], strict=False):
        if before.end != after.offset:
            raise AssertionError(f"{kind}: extent ends at {before.end}, the next starts at {after.offset}")
    return Region(kind, ordered)
