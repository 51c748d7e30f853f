"""A drive, described: every byte that is written, and in which order."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Any

import msgspec
from blake3 import blake3
from msgspec import Struct

from ..common.later import np
from ..content.extents import MIB
from ..content.ranges import ranges_in
from ..content.regions import Region
from ..content.source_file import SourceFile
from ..drives.host import Span


class DriveImage(Struct, frozen=True, dict=True):
    """What a drive becomes. Streamed in the order: `regions` rising, then the manifest, tables, and the seal."""

    size: int
    sector_size: int
    seal: bytes
    """Sector 0."""
    regions: tuple[Region, ...]
    manifest_offset: int | None
    """None: it is not on the drive, but kept on this computer, if there is one at all."""
    manifest_room: int
    first_content: int
    """Byte where partitions, or the rest of a raw image, begin: everything before belongs to table and manifest."""
    about: dict[str, Any]
    """What the manifest says besides hashes (see docs/formats.md); empty for a drive that gets none."""
    partitions: tuple[Span, ...]
    """For telling a system of them."""
    tables: tuple[tuple[int, bytes], ...] = ()
    """Offset and bytes of what is written between manifest and seal: a GPT's backup, then its primary."""

    @cached_property
    def fingerprint(self) -> bytes:
        """32 bytes over everything that is decided before a byte is read.

        Tells whether an unfinished drive is this one.
        """
        digest = blake3(msgspec.json.encode([self.size, self.sector_size, self.about], order="sorted"))
        digest.update(self.seal)
        for _, data in self.tables:
            digest.update(data)
        for region in self.regions:
            digest.update(region.kind.encode())
            digest.update(
                np.array([(extent.offset, extent.content.size) for extent in region.extents], "<u8").tobytes()
            )
        return digest.digest()

    @property
    def bytes_to_write(self) -> int:
        """Bytes of all regions."""
        return sum(region.size for region in self.regions)

    @property
    def most_stored(self) -> int:
        """Bytes that a new file for it takes at most: what a source has as holes becomes holes again."""
        used: dict[SourceFile, int] = {}
        for extent in (extent for region in self.regions for extent in region.extents):
            for _, found in ranges_in(extent.content):
                if isinstance(found.file, SourceFile):
                    used[found.file] = used.get(found.file, 0) + found.size
        return self.bytes_to_write - sum(max(size - file.stored, 0) for file, size in used.items())

    @property
    def content_end(self) -> int:
        """First byte behind all regions."""
        return max((region.offset + region.size for region in self.regions), default=self.first_content)

    @property
    def cleared_first(self) -> list[tuple[int, int]]:
        """Stretches (start, end) that are made zero before anything else, sector 0 apart.

        What comes before the first content, and the last MiB, where an old GPT's copy lies.
        """
        tail = self.size - min(MIB, self.size - self.first_content)
        return [span for span in ((self.sector_size, self.first_content), (tail, self.size)) if span[0] < span[1]]

    @property
    def zeros(self) -> list[tuple[int, int]]:
        """Stretches (start, end) around the regions that have to be zero in the end."""
        taken = [(offset, offset + len(data)) for offset, data in self.tables]
        if self.manifest_offset is not None:
            taken.append((self.manifest_offset, self.manifest_offset + self.manifest_room))
        taken.append((self.first_content, self.content_end))
        return [gap for span in self.cleared_first for gap in _gaps(span, sorted(taken))]


def _gaps(span: tuple[int, int], taken: list[tuple[int, int]]) -> Iterator[tuple[int, int]]:
    """Yield what of `span` (start, end) lies in none of the stretches `taken`, which rise."""
    free, end = span
    for first, last in taken:
        if free < min(first, end):
            yield free, min(first, end)
        free = max(free, last)
    if free < end:
        yield free, end
