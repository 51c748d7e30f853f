"""Solid resources: many files' bytes in one packed stream, in which each has its place."""

from __future__ import annotations

from bisect import bisect_right
from functools import cached_property
from itertools import accumulate
from typing import Any

from ..common.errors import SourceError
from ..common.later import np
from ..common.record import Record, RecordError, record, u32, u64
from ..content.contents import NO_BYTES, Seekable
from ..content.ranges import FileRange
from .packed import METHODS, Chunks, PackedResource
from .read import DAMAGED, InstallImage
from .records import RESOURCE_SOLID, SIZE_MASK, SOLID_RESOURCE

_LARGEST_CHUNK = 64 << 20
LARGEST_SOLID = 1 << 44
_LARGEST_TABLE = 64 << 20


@record(size=16)
class SolidHead(Record):
    """In front of a solid resource's chunk sizes; each of them has 4 bytes."""

    original_size: int = u64(0, "bytes when unpacked")
    chunk_size: int = u32(8, "bytes of a chunk when unpacked")
    method: int = u32(12, "1 XPRESS, 2 LZX, 3 LZMS")


class SolidStreams:
    """The solid resources of an image, or of a part of one.

    Rows that follow one another in the lookup table belong together: places run on through all resources among them.
    """

    def __init__(self, image: InstallImage) -> None:
        self._image = image
        flags = image.resources["size_and_flags"] >> np.uint64(56)
        numbers = np.flatnonzero(flags & np.uint64(RESOURCE_SOLID))
        self._groups = np.split(numbers, np.flatnonzero(np.diff(numbers) != 1) + 1) if len(numbers) else []
        self._streams: dict[int, _Stream] = {}

    def content(self, number: int, name: str) -> Seekable:
        """Return the bytes of the resource in row `number` of the lookup table. Raises SourceError."""
        row = self._image.resources[number]
        size, place = int(row["size_and_flags"]) & SIZE_MASK, int(row["offset"])
        return self._stream(number).content(place, size, name)

    def place_of(self, number: int) -> tuple[int, int]:
        """Return where the solid resources begin that have the bytes, in the image, and the place within them."""
        return self._stream(number).offset, int(self._image.resources["offset"][number])

    def _stream(self, number: int) -> _Stream:
        group = next(n for n, rows in enumerate(self._groups) if rows[0] <= number <= rows[-1])
        stream = self._streams.get(group)
        if stream is None:
            stream = self._streams[group] = _Stream(self._image, self._groups[group])
        return stream


class _Stream:
    def __init__(self, image: InstallImage, rows: np.ndarray[Any, Any]) -> None:
        self._image = image
        table = image.resources[rows]
        self._rows = [row for row in table if int(row["original_size"]) == SOLID_RESOURCE]

    @property
    def offset(self) -> int:
        """Byte of the image where the first of them begins."""
        return int(self._rows[0]["offset"]) if self._rows else 0

    @cached_property
    def _resources(self) -> list[PackedResource]:
        return [self._opened(int(row["offset"]), int(row["size_and_flags"]) & SIZE_MASK) for row in self._rows]

    @cached_property
    def _ends(self) -> list[int]:
        return list(accumulate(resource.size for resource in self._resources))

    def content(self, place: int, size: int, name: str) -> Seekable:
        if not size:
            return NO_BYTES
        number = bisect_right(self._ends, place)
        start = self._ends[number - 1] if number else 0
        if number == len(self._ends) or place + size > self._ends[number]:
            raise SourceError(f"{name}: its bytes are outside of {self._image.place}.", advice=DAMAGED)
        return FileRange(self._resources[number], place - start, size)

    def _opened(self, offset: int, stored: int) -> PackedResource:
        content, what = self._image.content, f"{self._image.place}, solid resource at byte {offset:,}"
        try:
            head = SolidHead.unpack(content.read_at(offset, min(SolidHead.SIZE, stored)))
        except RecordError as error:
            raise SourceError(f"{what}: it is too short.", advice=DAMAGED) from error
        power_of_two = head.chunk_size and not head.chunk_size & (head.chunk_size - 1)
        if not power_of_two or head.chunk_size > _LARGEST_CHUNK or head.original_size > LARGEST_SOLID:
            why = f"chunks of {head.chunk_size:,} bytes for {head.original_size:,} bytes are not supported"
            raise SourceError(f"{what}: {why}.", advice=DAMAGED)
        method = next((known for known in METHODS if known.number == head.method), None)
        if method is None:
            raise SourceError(f"{what}: it is compressed with the unknown method {head.method}.", advice=DAMAGED)
        count = -(-head.original_size // head.chunk_size)
        if SolidHead.SIZE + 4 * count > min(stored, _LARGEST_TABLE):
            raise SourceError(f"{what}: its table of {count:,} chunks does not fit into it.", advice=DAMAGED)

        def chunks() -> Chunks:
            table = np.frombuffer(content.read_at(offset + SolidHead.SIZE, 4 * count), "<u4").astype(np.uint64)
            starts = np.concatenate([np.zeros(1, np.uint64), np.cumsum(table, dtype=np.uint64)])
            if int(starts[-1]) > stored - SolidHead.SIZE - 4 * count:
                raise SourceError(f"{what}: its chunks reach beyond its end.", advice=DAMAGED)
            return Chunks(method, head.chunk_size, offset + SolidHead.SIZE + 4 * count, starts)

        return PackedResource(content, head.original_size, chunks, what)
