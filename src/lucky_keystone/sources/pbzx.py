"""pbzx, in which newer packages keep their payload: chunks, each as it is or an xz stream, read like a file.

A head says how large a chunk is when decoded; in front of each lies how many bytes come out of it, and how many are
stored. Those that are the same lie there as they are. There is no other end than the file's, and no sum but xz's own.
"""

from __future__ import annotations

import threading
from bisect import bisect_right
from collections import OrderedDict
from itertools import accumulate
from pathlib import Path

from msgspec import Struct

from ..common.errors import SourceError
from ..common.record import Record, raw, record, u64
from ..content.chunks import WHOLE_XZ, ChunkError, decode_chunk
from ..content.contents import IMAGE_ORDER, Seekable, Sourced

MAGIC = b"pbzx"
_LARGEST_CHUNK = 64 << 20
"""Bytes that a chunk may decode to: packages have 16 MiB."""
_MOST_CHUNKS = 1 << 16
_KEPT = 2
"""Decoded chunks."""
_ADVICE = "The package is damaged or incomplete: download it again."


@record(size=12, big_endian=True)
class PbzxHead(Record):
    """The front of a payload."""

    magic: bytes = raw(0, 4, "'pbzx'")
    chunk_size: int = u64(4, "bytes of a chunk when decoded")


@record(size=16, big_endian=True)
class ChunkHead(Record):
    """In front of each chunk."""

    size: int = u64(0, "bytes that come out; fewer than a chunk's of the last one alone")
    stored: int = u64(8, "bytes behind this: as many where they are not compressed")


class _Chunk(Struct, frozen=True):
    at: int
    """Byte of the stored payload."""
    stored: int
    size: int


class PbzxFile:
    """Has what a file of a source has: see `content.RangedFile`. Nothing is decoded before it is read."""

    def __init__(self, stored: Seekable, name: str) -> None:
        """Read the heads of all chunks. Raises SourceError for one that is invalid."""
        self.path, self.underlying = Path(name), stored
        self.order = stored.where().file if isinstance(stored, Sourced) else IMAGE_ORDER
        self._chunks = self._read_heads()
        self._starts = [0, *accumulate(chunk.size for chunk in self._chunks)]
        self.size = self._starts[-1]
        self._kept: OrderedDict[int, bytes] = OrderedDict()
        self._lock = threading.Lock()

    def _fault(self, why: str) -> SourceError:
        return SourceError(f"{self.path} (pbzx): {why}.", advice=_ADVICE)

    def _read_heads(self) -> list[_Chunk]:
        stored = self.underlying
        if stored.size < PbzxHead.SIZE:
            raise self._fault("it is too short for its head")
        whole = PbzxHead.unpack(stored.read_at(0, PbzxHead.SIZE)).chunk_size
        if not 0 < whole <= _LARGEST_CHUNK:
            raise self._fault(f"its chunks would have {whole:,} bytes, which is invalid")
        chunks: list[_Chunk] = []
        at = PbzxHead.SIZE
        while at < stored.size:
            number = len(chunks) + 1
            if at + ChunkHead.SIZE > stored.size:
                raise self._fault(f"it ends within the head of chunk {number:,}, at byte {at:,}")
            head = ChunkHead.unpack(stored.read_at(at, ChunkHead.SIZE))
            at += ChunkHead.SIZE
            if not 0 < head.size <= whole:
                raise self._fault(f"chunk {number:,} would make {head.size:,} bytes, of {whole:,} at most")
            if not 0 < head.stored <= stored.size - at:
                raise self._fault(f"chunk {number:,} has {head.stored:,} bytes stored, of {stored.size - at:,} left")
            if head.stored > head.size + _LARGEST_CHUNK // 64:
                raise self._fault(f"chunk {number:,} has {head.stored:,} bytes stored for {head.size:,}")
            if chunks and chunks[-1].size < whole:
                raise self._fault(f"chunk {number - 1:,} is short, and is not the last one")
            if number > _MOST_CHUNKS:
                raise self._fault(f"it has more than {_MOST_CHUNKS:,} chunks")
            chunks.append(_Chunk(at, head.stored, head.size))
            at += head.stored
        return chunks

    def acquire(self) -> int:
        """Return a descriptor for one more user: what is below opens by itself."""
        return 0

    def release(self, descriptor: int) -> None:
        """One user less."""

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        """Fill `view` from byte `offset`. Raises SourceError for a damaged chunk."""
        if offset + len(view) > self.size:
            raise self._fault(f"{len(view):,} bytes at {offset:,} were requested, out of {self.size:,}")
        done = 0
        while done < len(view):
            number = bisect_right(self._starts, offset + done) - 1
            chunk, inside = self._chunks[number], offset + done - self._starts[number]
            take = min(len(view) - done, chunk.size - inside)
            if chunk.stored == chunk.size:
                piece: bytes | memoryview = self.underlying.read_at(chunk.at + inside, take)
            else:
                piece = memoryview(self._decoded(number))[inside : inside + take]
            view[done : done + take] = piece
            done += take

    def _decoded(self, number: int) -> bytes:
        with self._lock:
            if number in self._kept:
                self._kept.move_to_end(number)
                return self._kept[number]
        chunk = self._chunks[number]
        try:
            data = decode_chunk(WHOLE_XZ, self.underlying.read_at(chunk.at, chunk.stored), chunk.size)
        except ChunkError as error:
            what = f"chunk {number + 1:,} cannot be decoded: {error.message.rstrip('.')}"
            raise self._fault(what) from error
        with self._lock:
            self._kept[number] = data
            while len(self._kept) > _KEPT:
                self._kept.popitem(last=False)
        return data
