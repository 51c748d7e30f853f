"""The one writer: regions are read, hashed and written, block by block, with reading and writing overlapped.

A thread fills and hashes blocks ahead; the caller's thread writes them; a third asks the system to flush what was
written, window by window, so that progress is what the drive has taken and not what a cache holds.
"""

from __future__ import annotations

import mmap
import queue
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from blake3 import blake3

from ..content import BLOCK, Reader, Tell
from ..errors import KeystoneError, SourceError
from ..extents import Region

_AHEAD = 4  # blocks in flight
_WINDOW = 64 << 20  # bytes written between two flushes
_ZERO_PIECE = 64 << 10


class Target(Protocol):
    """Where a drive is written: a device or an image file. Offsets and sizes in bytes."""

    size: int

    def write_at(self, offset: int, data: memoryview) -> None:
        """Write all of `data`; DriveError when the drive does not take it."""

    def write_zeros(self, offset: int, size: int) -> None:
        """Make these bytes zero, without using room where the target can leave it out."""

    def readinto_at(self, offset: int, view: memoryview) -> None:
        """Fill all of `view`; DriveError when the drive does not give it."""

    def read_at(self, offset: int, size: int) -> bytes:
        """Return exactly `size` bytes."""

    def flush(self) -> None:
        """Return when everything written is on the medium."""

    def forget_cache(self) -> None:
        """Let following reads come from the medium rather than from a cache, where the system can do so."""


@dataclass
class _Block:
    offset: int
    view: memoryview
    digest: bytes
    buffer: memoryview
    """What `view` is the front of; goes back to the reader."""


def aligned_buffer() -> memoryview:
    """Return a buffer of one block that starts at a page of memory, as writing past the system's cache wants it."""
    return memoryview(mmap.mmap(-1, BLOCK))


def blocks_of(regions: Sequence[Region]) -> Iterator[tuple[int, int]]:
    """Yield (offset, size) of every block of the regions: the unit of writing, hashing and checking."""
    for region in regions:
        for start in range(0, region.size, BLOCK):
            yield region.offset + start, min(BLOCK, region.size - start)


def stream_regions(regions: Sequence[Region], target: Target, tell: Tell, stage: str = "writing") -> list[bytes]:
    """Write `regions` to `target`; return the hash of each block. `stage` names the work to `tell`. Raises SourceError or DriveError.

    The first error of any thread stops all of them; what was written stays, without a seal.
    """
    whole = sum(region.size for region in regions)
    line = _ReadAhead(regions)
    flusher = _Flusher(target)
    digests: list[bytes] = []
    done = 0
    try:
        for block in line:
            _write(target, block)
            line.give_back(block)
            digests.append(block.digest)
            done += len(block.view)
            tell(stage, flusher.taken(done), whole)
    finally:
        line.stop()
        flusher.stop()
    flusher.finish()
    tell(stage, whole, whole)
    return digests


def _write(target: Target, block: _Block) -> None:
    """Write a block; stretches of zeros are left to the target."""
    words = np.frombuffer(block.view, np.uint8)
    pieces = -(-len(words) // _ZERO_PIECE)
    filled = np.fromiter(
        (words[n * _ZERO_PIECE] or words[n * _ZERO_PIECE : (n + 1) * _ZERO_PIECE].any() for n in range(pieces)), bool, pieces
    )
    borders = [0, *(np.flatnonzero(filled[1:] != filled[:-1]) + 1).tolist(), pieces]
    for first, end in zip(borders, borders[1:], strict=False):
        start, stop = first * _ZERO_PIECE, min(end * _ZERO_PIECE, len(words))
        if filled[first]:
            target.write_at(block.offset + start, block.view[start:stop])
        else:
            target.write_zeros(block.offset + start, stop - start)


class _ReadAhead:
    """Fills and hashes blocks in a thread of its own; iterated by the writer."""

    def __init__(self, regions: Sequence[Region]) -> None:
        self._regions = regions
        self._filled: queue.Queue[_Block | BaseException | None] = queue.Queue(_AHEAD)
        self._empty: queue.Queue[memoryview] = queue.Queue()
        for _ in range(_AHEAD):
            self._empty.put(aligned_buffer())
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._run, name="reader", daemon=True)
        self._thread.start()

    def __iter__(self) -> Iterator[_Block]:
        while True:
            item = self._filled.get()
            if item is None:
                return
            if isinstance(item, BaseException):
                raise item
            yield item

    def give_back(self, block: _Block) -> None:
        self._empty.put(block.buffer)

    def stop(self) -> None:
        self._stopping.set()
        self._empty.put(aligned_buffer())
        while self._thread.is_alive():
            try:
                self._filled.get(timeout=0.05)
            except queue.Empty:
                continue
        self._thread.join()

    def _run(self) -> None:
        try:
            for region in self._regions:
                self._read_region(region)
            self._filled.put(None)
        except BaseException as error:  # noqa: BLE001 - handed to the writer's thread, which raises it
            self._filled.put(error)

    def _read_region(self, region: Region) -> None:
        pieces = _RegionReader(region)
        try:
            for start in range(0, region.size, BLOCK):
                buffer = self._empty.get()
                if self._stopping.is_set():
                    return
                view = buffer[: min(BLOCK, region.size - start)]
                pieces.fill(view)
                self._filled.put(_Block(region.offset + start, view, blake3(view).digest(), buffer))
        finally:
            pieces.close()


class _RegionReader:
    """Reads the extents of a region one after the other."""

    def __init__(self, region: Region) -> None:
        self._extents = iter(region.extents)
        self._reader: Reader | None = None
        self._left = 0
        self._name = region.kind

    def fill(self, view: memoryview) -> None:
        done = 0
        while done < len(view):
            if self._reader is None or self._left == 0:
                self.close()
                extent = next(self._extents)
                self._reader, self._left = extent.content.open(), extent.content.size
            got = self._reader.readinto(view[done : done + min(len(view) - done, self._left)])
            if got == 0:
                raise SourceError(
                    f"A content in '{self._name}' ended {self._left} bytes early.", advice="The source changed or is damaged."
                )
            done += got
            self._left -= got

    def close(self) -> None:
        if self._reader is not None:
            self._reader.close()
            self._reader = None


class _Flusher:
    """Flushes behind the writer and knows how much the drive has surely taken."""

    def __init__(self, target: Target) -> None:
        self._target = target
        self._asked: queue.Queue[int | None] = queue.Queue()
        self._last_asked = 0
        self._taken = 0
        self._error: KeystoneError | None = None
        self._thread = threading.Thread(target=self._run, name="flusher", daemon=True)
        self._thread.start()

    def taken(self, written: int) -> int:
        """Note that `written` bytes were handed over; return how many of them were flushed."""
        if self._error is not None:
            raise self._error
        if written - self._last_asked >= _WINDOW:
            self._last_asked = written
            self._asked.put(written)
        return self._taken

    def stop(self) -> None:
        self._asked.put(None)
        self._thread.join()

    def finish(self) -> None:
        """Flush what is left and raise what went wrong on the way."""
        if self._error is not None:
            raise self._error
        self._target.flush()

    def _run(self) -> None:
        try:
            while (written := self._asked.get()) is not None:
                while not self._asked.empty():  # the newest request covers the older ones
                    newer = self._asked.get()
                    if newer is None:
                        return
                    written = newer
                self._target.flush()
                self._taken = written
        except KeystoneError as error:
            self._error = error


def read_back(regions: Sequence[tuple[int, int, bytes]], target: Target, tell: Tell, stage: str = "reading back") -> list[int]:
    """Read every (offset, size, hash) block from `target`; return the indexes of those whose hash differs.

    Reading runs ahead in a thread of its own, so that hashing costs no time of the drive's.
    """
    filled: queue.Queue[tuple[int, memoryview] | BaseException] = queue.Queue(2)
    empty: queue.Queue[memoryview | None] = queue.Queue()
    for _ in range(3):
        empty.put(aligned_buffer())

    def run() -> None:
        try:
            for index, (offset, size, _) in enumerate(regions):
                buffer = empty.get()
                if buffer is None:
                    return
                target.readinto_at(offset, buffer[:size])
                filled.put((index, buffer))
        except BaseException as error:  # noqa: BLE001 - raised again in the caller's thread
            filled.put(error)

    thread = threading.Thread(target=run, name="reader", daemon=True)
    thread.start()
    whole, done, wrong = sum(size for _, size, _ in regions), 0, []
    try:
        for _ in regions:
            item = filled.get()
            if isinstance(item, BaseException):
                raise item
            index, buffer = item
            _, size, digest = regions[index]
            if blake3(buffer[:size]).digest() != digest:
                wrong.append(index)
            empty.put(buffer)
            done += size
            tell(stage, done, whole)
    finally:
        empty.put(None)
        while thread.is_alive():
            try:
                filled.get(timeout=0.05)
            except queue.Empty:
                continue
    return wrong
