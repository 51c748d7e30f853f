"""What files on servers have to know of a build: what is going to be read of them, and what a drive holds already."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from typing import Protocol

from blake3 import blake3

from ..common.progress import Progress
from ..content.buffers import aligned_buffer
from ..content.contents import BLOCK
from ..content.ranges import RangedFile, ranges_in
from ..drives.medium import Medium
from ..manifest.unfinished import UNKNOWN
from .build import claim_of
from .image import DriveImage
from .keeping import Keeper

_WORTH = 1 << 20
"""Bytes of a content that are rather read from the drive than downloaded again."""


class Remote(RangedFile, Protocol):
    """A file on a server."""

    def read_in_order(self, later: Sequence[tuple[int, int]]) -> None:
        """Prepare for reading all of it; `later` are the ranges (offset, size) of large contents."""

    def lend(self, offset: int, size: int, read: Callable[[int, memoryview], None]) -> None:
        """Have bytes of it here: `read` fills a buffer with those from an offset of the file."""


def announce(image: DriveImage, files: Sequence[Remote]) -> None:
    """Tell files on servers that they are going to be read as a whole, and which large contents come when."""
    for file in files:
        file.read_in_order([(at, size) for at, size, _ in _ranges(image, file) if size >= BLOCK])


def lend(image: DriveImage, medium: Medium, keeper: Keeper, files: Sequence[Remote], progress: Progress) -> None:
    """Let a build that continues read from its own drive what the drive took before it was interrupted.

    Only where all of that still has the hash that the record of progress keeps. Raises DriveError.
    """
    claim = claim_of(image, medium, keeper) if files else None
    if claim is None or claim.digest == UNKNOWN or not claim.size:
        return
    end = _believed_end(image, medium, claim.size, claim.digest, progress)
    for file in files:
        for at, size, place in _ranges(image, file):
            here = min(size, end - place)
            if here >= _WORTH:
                file.lend(at, here, partial(_read, medium, image.sector_size, place - at))


def _believed_end(image: DriveImage, medium: Medium, claimed: int, digest: bytes, progress: Progress) -> int:
    """Return the byte of the drive up to which its regions are what they were; 0 where the hash differs."""
    found, done, end, buffer = blake3(), 0, 0, aligned_buffer()
    for region in image.regions:
        for start in range(0, region.size, BLOCK):
            if done >= claimed:
                break
            view = buffer[: min(BLOCK, region.size - start)]
            medium.readinto_at(region.offset + start, view)
            found.update(blake3(view).digest())
            done += len(view)
            end = region.offset + start + len(view)
            progress("examining what is there", done, claimed)
    return end if done == claimed and found.digest() == digest else 0


def _ranges(image: DriveImage, file: Remote) -> Iterator[tuple[int, int, int]]:
    """Yield what the drive has of a file: offset there and size in bytes, and the byte of the drive."""
    for region in image.regions:
        for extent in region.extents:
            for inside, found in ranges_in(extent.content):
                if found.file is file:
                    yield found.offset, found.size, extent.offset + inside


def _read(medium: Medium, sector: int, shift: int, at: int, view: memoryview) -> None:
    """Fill `view` from the drive, whose bytes lie `shift` behind those of the file; whole sectors are read."""
    start = at + shift
    front = start % sector
    size = -(-(front + len(view)) // sector) * sector
    view[:] = medium.read_at(start - front, size)[front : front + len(view)]
