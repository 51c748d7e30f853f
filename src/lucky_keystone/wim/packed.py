"""Resources of an install image as files: unpacked where they are read, one chunk at a time."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from ..content import FileRange, Seekable
from ..errors import SourceError
from .packing import lzx, xpress
from .packing.huffman import PackingError
from .read import DAMAGED
from .records import HEADER_LZX, HEADER_XPRESS, ResourceHeader

_KEPT = 64
"""Unpacked chunks that are kept."""
_LARGEST_CHUNK = 1 << 21
_LARGEST_OF_4_BYTES = (1 << 32) - 1
"""Bytes of a resource whose chunk table has entries of 4 bytes; larger ones have 8."""

UNPACKERS: dict[int, Callable[[bytes, int, int], bytes]] = {
    HEADER_XPRESS: lambda data, size, _window: xpress.unpack(data, size),
    HEADER_LZX: lzx.unpack,
}
"""By the header's flag: (stored bytes, size, chunk size) to bytes."""


class PackedResource:
    """Has what a file of a source has: see `content.RangedFile`."""

    def __init__(self, image: Seekable, row: ResourceHeader, method: int, chunk_size: int, name: str) -> None:
        """`method` is one of UNPACKERS. Raises SourceError for a chunk size or a table that is impossible."""
        self.path, self.size = Path(name), row.original_size
        self.underlying = image
        self._image, self._row, self._chunk = image, row, chunk_size
        self._unpack = UNPACKERS[method]
        if not 0 < chunk_size <= _LARGEST_CHUNK or chunk_size & (chunk_size - 1):
            raise self._fault(f"its chunks have an invalid size of {chunk_size:,} bytes")
        self._count = -(-self.size // chunk_size)
        self._width = 4 if self.size <= _LARGEST_OF_4_BYTES else 8
        if self._table_size > row.stored_size:
            raise self._fault(f"{row.stored_size:,} bytes are too few for {self.size:,} bytes in chunks")
        self._kept: OrderedDict[int, bytes] = OrderedDict()
        self._lock = threading.Lock()

    @property
    def _table_size(self) -> int:
        return max(self._count - 1, 0) * self._width  # the first chunk starts at 0 and has no entry

    @cached_property
    def _starts(self) -> np.ndarray[Any, Any]:
        """Where each chunk starts, from the end of the table, and the end of the last."""
        table = self._image.read_at(self._row.offset, self._table_size)
        starts = np.zeros(self._count + 1, np.uint64)
        starts[1 : self._count] = np.frombuffer(table, f"<u{self._width}")
        starts[-1] = self._row.stored_size - self._table_size
        if (starts[:-1] > starts[1:]).any():
            raise self._fault("its chunk table is out of order, or leads outside of it")
        return starts

    def acquire(self) -> int:
        """Return a descriptor for one more user: what is below opens by itself."""
        return 0

    def release(self, descriptor: int) -> None:
        """One user less."""

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        """Fill `view` from byte `offset`. Raises SourceError for chunks that are damaged."""
        if offset + len(view) > self.size:
            raise self._fault(f"{len(view):,} bytes at {offset:,} were requested, out of {self.size:,}")
        done = 0
        while done < len(view):
            number, inside = divmod(offset + done, self._chunk)
            piece = self._piece(number)[inside : inside + len(view) - done]
            view[done : done + len(piece)] = piece
            done += len(piece)

    def _piece(self, number: int) -> bytes:
        with self._lock:
            kept = self._kept.get(number)
            if kept is None:
                kept = self._kept[number] = self._unpacked(number)
                if len(self._kept) > _KEPT:
                    self._kept.popitem(last=False)
            else:
                self._kept.move_to_end(number)
            return kept

    def _unpacked(self, number: int) -> bytes:
        start, end = int(self._starts[number]), int(self._starts[number + 1])
        size = min(self._chunk, self.size - number * self._chunk)
        if end - start > size:
            raise self._fault(f"chunk {number:,} has {end - start:,} bytes for {size:,}")
        data = self._image.read_at(self._row.offset + self._table_size + start, end - start)
        if len(data) == size:  # it did not shrink, and is stored as it is
            return data
        try:
            return self._unpack(data, size, self._chunk)
        except PackingError as error:
            raise self._fault(
                f"chunk {number:,}, at byte {self._row.offset + self._table_size + start:,}: {error}"
            ) from error

    def _fault(self, why: str) -> SourceError:
        return SourceError(f"{self.path}: {why}.", advice=DAMAGED)


def unpacked(image: Seekable, row: ResourceHeader, method: int, chunk_size: int, name: str) -> Seekable:
    """Return the bytes of a compressed resource."""
    return FileRange(PackedResource(image, row, method, chunk_size, name), 0, row.original_size)
