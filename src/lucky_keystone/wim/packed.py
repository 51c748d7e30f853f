"""Resources of an install image as files: unpacked where they are read, one chunk at a time."""

from __future__ import annotations

import os
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cache, cached_property
from pathlib import Path
from typing import Any

from msgspec import Struct

from ..common.errors import SourceError
from ..common.later import np
from ..content.chunks import ChunkError, Decoder, decode_chunk
from ..content.contents import IMAGE_ORDER, Seekable
from ..content.ranges import FileRange
from .packing import fast, lzms, lzx, xpress
from .read import DAMAGED
from .records import HEADER_LZMS, HEADER_LZX, HEADER_XPRESS, ResourceHeader

_KEPT_BYTES = 4 << 20
"""Unpacked bytes that are kept."""
_RUN = 1 << 20
"""Unpacked bytes that are made in one go."""
_LARGEST_CHUNK = 1 << 21
_LARGEST_OF_4_BYTES = (1 << 32) - 1
"""Bytes of a resource whose chunk table has entries of 4 bytes; larger ones have 8."""


class Method(Decoder, frozen=True):
    """A compression, in both its forms: the plain one is the decoder, whose window is the chunk size."""

    fast: int
    """Its number in `packing.fast`."""
    flag: int
    """Of the image's header."""
    number: int
    """In front of solid resources."""


METHODS = (
    Method("XPRESS", lambda data, size, _window: xpress.unpack(data, size), fast.XPRESS, HEADER_XPRESS, 1),
    Method("LZX", lzx.unpack, fast.LZX, HEADER_LZX, 2),
    Method("LZMS", lzms.unpack, fast.LZMS, HEADER_LZMS, 3),
)


@cache
def _workers() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(min(os.cpu_count() or 1, 4), thread_name_prefix="unpack")


class Chunks(Struct, frozen=True):
    """Where the chunks of a resource are."""

    method: Method
    chunk_size: int
    """Bytes of each when unpacked; the last has what is left."""
    data: int
    """Byte of the image where the first one begins."""
    starts: np.ndarray[Any, Any]
    """Where each begins, from `data` on, and where the last one ends."""


def chunks_of(image: Seekable, row: ResourceHeader, method: Method, chunk_size: int, name: str) -> Chunks:
    """Read the chunk table of a resource. Raises SourceError for one that is impossible."""
    if not 0 < chunk_size <= _LARGEST_CHUNK or chunk_size & (chunk_size - 1):
        raise _fault(name, f"its chunks have an invalid size of {chunk_size:,} bytes")
    count = -(-row.original_size // chunk_size)
    width = 4 if row.original_size <= _LARGEST_OF_4_BYTES else 8
    size = max(count - 1, 0) * width  # the first chunk starts at 0 and has no entry
    if size > row.stored_size:
        raise _fault(name, f"{row.stored_size:,} bytes are too few for {row.original_size:,} bytes in chunks")
    starts = np.zeros(count + 1, np.uint64)
    starts[1:count] = np.frombuffer(image.read_at(row.offset, size), f"<u{width}")
    starts[-1] = row.stored_size - size
    if (starts[:-1] > starts[1:]).any():
        raise _fault(name, "its chunk table is out of order, or leads outside of it")
    return Chunks(method, chunk_size, row.offset + size, starts)


class PackedResource:
    """Has what a file of a source has: see `content.RangedFile`."""

    def __init__(self, image: Seekable, size: int, chunks: Callable[[], Chunks], name: str) -> None:
        """`size` bytes come of it; `chunks` says where they are, when the first of them is read."""
        self.path, self.size = Path(name), size
        self.underlying, self.order = image, IMAGE_ORDER
        self._image, self._find_chunks = image, chunks
        self._kept: OrderedDict[int, bytes] = OrderedDict()
        self._begun: dict[int, Future[bytes]] = {}
        self._lock = threading.Lock()

    @cached_property
    def _chunks(self) -> Chunks:
        return self._find_chunks()

    @property
    def _chunk(self) -> int:
        return self._chunks.chunk_size

    def acquire(self) -> int:
        """Return a descriptor for one more user: what is below opens by itself."""
        return 0

    def release(self, descriptor: int) -> None:
        """One user less."""

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        """Fill `view` from byte `offset`. Raises SourceError for chunks that are damaged."""
        end = offset + len(view)
        if end > self.size:
            raise self._fault(f"{len(view):,} bytes at {offset:,} were requested, out of {self.size:,}")
        first, last = (
            -(-offset // self._chunk),
            len(self._chunks.starts) - 1 if end == self.size else end // self._chunk,
        )
        if first >= last or self._begun:  # nothing but parts of chunks, or chunks that are being made already
            self._copy_parts(offset, view)
            return
        start, stop = first * self._chunk - offset, min(last * self._chunk, self.size) - offset
        self._copy_parts(offset, view[:start])
        runs = max(_RUN // self._chunk, 1)
        at = start
        for made in self._made([(number, min(runs, last - number)) for number in range(first, last, runs)]):
            view[at : at + len(made)] = made
            at += len(made)
        self._copy_parts(offset + stop, view[stop:])

    def begin(self, offset: int, size: int) -> None:
        """Have the chunks of this range unpacked beside other work; the range is read soon."""
        for number in range(offset // self._chunk, -(-(offset + size) // self._chunk)):
            with self._lock:
                if number not in self._begun and number not in self._kept:
                    self._begun[number] = _workers().submit(self._unpacked, number, *self._stored(number, 1))

    def _copy_parts(self, offset: int, view: memoryview) -> None:
        done = 0
        while done < len(view):
            number, inside = divmod(offset + done, self._chunk)
            piece = self._piece(number)[inside : inside + len(view) - done]
            view[done : done + len(piece)] = piece
            done += len(piece)

    def _piece(self, number: int) -> bytes:
        """Return a chunk of which parts are read, and maybe more soon."""
        with self._lock:
            kept, begun = self._kept.get(number), self._begun.pop(number, None)
            if kept is None:
                kept = begun.result() if begun is not None else self._unpacked(number, *self._stored(number, 1))
                self._kept[number] = kept
                if len(self._kept) * self._chunk > _KEPT_BYTES and len(self._kept) > 1:
                    self._kept.popitem(last=False)
            else:
                self._kept.move_to_end(number)
            return kept

    def _made(self, runs: Sequence[tuple[int, int]]) -> Iterator[bytes]:
        """Yield the bytes of runs of chunks; with the fast form, of several at the same time."""
        if len(runs) < 2 or not fast.is_there():
            for number, count in runs:
                yield self._unpacked(number, *self._stored(number, count))
            return
        yield from _workers().map(
            lambda run: self._unpacked(*run), [(number, *self._stored(number, count)) for number, count in runs]
        )

    def _stored(self, number: int, count: int) -> tuple[np.ndarray[Any, Any], bytes]:
        """Return where `count` chunks begin, from the start of the first one on, and all their stored bytes."""
        starts = self._chunks.starts[number : number + count + 1]
        for place in np.flatnonzero(np.diff(starts) > self._chunk):
            raise self._fault(f"chunk {number + place:,} has more than {self._chunk:,} bytes")
        at = self._chunks.data + int(starts[0])
        return starts - starts[0], self._image.read_at(at, int(starts[-1] - starts[0]))

    def stored(self) -> tuple[np.ndarray[Any, Any], bytes]:
        """Return where all chunks begin, and their stored bytes: for `whole`."""
        return self._stored(0, len(self._chunks.starts) - 1)

    def whole(self, starts: np.ndarray[Any, Any], data: bytes) -> bytes:
        """Return all bytes, in whichever thread it is called."""
        return self._unpacked(0, starts, data)

    def _unpacked(self, number: int, starts: np.ndarray[Any, Any], data: bytes) -> bytes:
        """Return the bytes of the chunks from `number` on that `starts` and `data` are of."""
        count = len(starts) - 1
        total = min(self._chunk * count, self.size - number * self._chunk)
        done, made = fast.unpack_run(self._chunks.method.fast, data, starts, self._chunk, total) or (0, b"")
        if done == count:
            return made
        return b"".join((made, *(self._plain(number, n, starts, data) for n in range(done, count))))

    def _plain(self, first: int, place: int, starts: np.ndarray[Any, Any], data: bytes) -> bytes:
        """Return the bytes of one chunk in plain Python. It says what is wrong with a chunk that is damaged."""
        number, stored = first + place, data[int(starts[place]) : int(starts[place + 1])]
        size = min(self._chunk, self.size - number * self._chunk)
        if len(stored) == size:  # it did not shrink, and is stored as it is
            return stored
        try:
            return decode_chunk(self._chunks.method, stored, size, self._chunk)
        except ChunkError as error:
            at = self._chunks.data + int(self._chunks.starts[number])
            raise self._fault(f"chunk {number:,}, at byte {at:,}: {error.message.rstrip('.')}") from error

    def _fault(self, why: str) -> SourceError:
        return _fault(str(self.path), why)


def _fault(name: str, why: str) -> SourceError:
    return SourceError(f"{name}: {why}.", advice=DAMAGED)


def unpacked(image: Seekable, row: ResourceHeader, method: Method, chunk_size: int, name: str) -> Seekable:
    """Return the bytes of a compressed resource."""
    resource = PackedResource(image, row.original_size, lambda: chunks_of(image, row, method, chunk_size, name), name)
    return FileRange(resource, 0, row.original_size)
