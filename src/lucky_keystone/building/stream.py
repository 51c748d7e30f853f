"""The one writer: blocks as they come from a feed go onto a drive, flushed at intervals that follow the drive.

Where a block is thought to be on the drive already (an interrupted build continues, a drive is updated), it is read and
compared first, and left alone when it is right.
"""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import closing
from itertools import pairwise

from blake3 import blake3
from msgspec import Struct, field
from msgspec.structs import replace

from ..common.errors import KeystoneError
from ..common.later import np
from ..common.progress import Progress
from ..content.buffers import aligned_buffer, digest_of, digest_of_zeros
from ..content.contents import BLOCK
from ..content.regions import TRAITS, Region
from ..drives.medium import Medium
from .feed import Block, Feed, Overtaken

_LEAST_PAUSE, _LONGEST_PAUSE = 0.5, 5.0
"""Seconds between two flushes: so often it shows how far a slow drive is, and so much an interrupted build loses."""
_COST = 10
"""How many times as long as the last flush took the pause is, between these two."""
_PIECE = 64 << 10  # bytes that are written, made zero or left alone together
_LEAVE, _ZERO, _WRITE = range(3)


class Streamed(Struct, frozen=True):
    """What streaming did. Offsets and sizes in bytes."""

    blocks: list[tuple[int, int, bytes]]
    """(offset, size, hash) of every block."""
    written: list[int]
    """Indexes of the blocks that were written, at least in part; the others were there and right."""

    bytes_written: int
    """Of these blocks; what was there and right within one was left alone."""


class Hooks(Struct):
    """What the order of a build wants to happen while blocks are streamed."""

    before_first_write: Callable[[], None] = field(default=lambda: None)
    taken: Callable[[int, bytes], None] = field(default=lambda _count, _digest: None)
    """Called in another thread with how many bytes were flushed, and the BLAKE3 of their blocks' hashes.

    Never before anything was written.
    """


def stream_regions(regions: Sequence[Region], medium: Medium, progress: Progress, stage: str = "writing") -> Streamed:
    """Write `regions` to `medium`. `stage` names the work to `progress`. Raises SourceError or DriveError."""
    return stream_blocks(Feed(regions).follow(), sum(region.size for region in regions), medium, progress, stage=stage)


def stream_blocks(
    blocks: Iterator[Block],
    whole: int,
    medium: Medium,
    progress: Progress,
    *,
    stage: str = "writing",
    compare_below: int = 0,
    hooks: Hooks | None = None,
) -> Streamed:
    """Write blocks of `whole` bytes in all.

    Those within the first `compare_below` bytes are compared and only written when wrong.

    The first error of any thread stops all of them; what was written stays.
    """
    writer = _Writer(medium, compare_below, hooks or Hooks())
    flusher = _Flusher(medium, (hooks or Hooks()).taken)
    found: list[tuple[int, int, bytes]] = []
    done, digest = 0, blake3()
    try:
        for block in blocks:
            writer.put(block, done)
            found.append((block.offset, len(block.view), block.digest))
            done += len(block.view)
            digest.update(block.digest)
            progress(stage, flusher.taken(done, digest, anything_written=bool(writer.written)), whole)
    finally:
        if close := getattr(blocks, "close", None):
            close()
        flusher.stop()
    if writer.written:
        flusher.finish()
    progress(stage, whole, whole)
    return Streamed(found, writer.written, writer.bytes_written)


def own_blocks(
    regions: Sequence[Region],
    shared: Iterator[Block],
    shift: int,
    shared_regions: Sequence[Region],
    fell_back: Callable[[], None],
) -> Iterator[Block]:
    """Yield the blocks of a drive's `regions` in order: its own, and those of a shared pass moved by `shift` bytes.

    When the pass overtakes this drive, that is reported, and the rest comes from a feed of its own (`shared_regions`).
    """
    own = Feed([region for region in regions if not TRAITS[region.kind].shared]).follow()
    followed = _followed(shared, shift, shared_regions, fell_back)
    with closing(own), closing(followed):
        for region in regions:
            for _ in range(0, region.size, BLOCK):
                yield next(followed if TRAITS[region.kind].shared else own)


def _followed(
    shared: Iterator[Block], shift: int, shared_regions: Sequence[Region], fell_back: Callable[[], None]
) -> Generator[Block, None, None]:
    try:
        for block in shared:
            yield replace(block, offset=block.offset + shift)
    except Overtaken as overtaken:
        fell_back()
        for block in Feed(shared_regions, first=overtaken.number).follow():
            yield replace(block, offset=block.offset + shift)


class _Writer:
    """Puts one block after the other onto a medium."""

    def __init__(self, medium: Medium, compare_below: int, hooks: Hooks) -> None:
        self._medium, self._compare_below, self._hooks = medium, compare_below, hooks
        self._there = aligned_buffer() if compare_below else None
        self._index = 0
        self.written: list[int] = []
        self.bytes_written = 0

    def put(self, block: Block, done: int) -> None:
        """Write `block`, before which `done` bytes of the stream stood, as far as it is not there already."""
        size = len(block.view)
        there = self._there[:size] if self._there is not None and done + size <= self._compare_below else None
        if there is not None:
            self._medium.readinto_at(block.offset, there)
        if there is None or digest_of(there) != block.digest:
            if not self.written:
                self._hooks.before_first_write()
            self.written.append(self._index)
            self._write(block, there)
        self._index += 1

    def _write(self, block: Block, there: memoryview | None) -> None:
        """Write the pieces of a block that differ from what is `there`; stretches of zeros are left to the medium."""
        if there is None and block.digest == digest_of_zeros(len(block.view)):
            self.bytes_written += len(block.view)
            self._medium.write_zeros(block.offset, len(block.view))
            return
        words = np.frombuffer(block.view, np.uint8)
        before = None if there is None else np.frombuffer(there, np.uint8)
        count = -(-len(words) // _PIECE)
        fates = np.empty(count, np.uint8)
        for number in range(count):
            piece = words[number * _PIECE : (number + 1) * _PIECE]
            if before is not None and np.array_equal(piece, before[number * _PIECE : (number + 1) * _PIECE]):
                fates[number] = _LEAVE
            else:
                fates[number] = _WRITE if piece[0] or piece.any() else _ZERO
        borders = [0, *(np.flatnonzero(fates[1:] != fates[:-1]) + 1).tolist(), count]
        for first, end in pairwise(borders):
            start, stop = first * _PIECE, min(end * _PIECE, len(words))
            if fates[first] == _LEAVE:
                continue
            self.bytes_written += stop - start
            if fates[first] == _WRITE:
                self._medium.write_at(block.offset + start, block.view[start:stop])
            else:
                self._medium.write_zeros(block.offset + start, stop - start)


class Pace:
    """When a drive is flushed: the more often, the less that costs it. Times in seconds."""

    def __init__(self, now: float) -> None:
        self._last, self._pause = now, _LEAST_PAUSE

    def is_due(self, now: float) -> bool:
        """Tell whether to flush now; if so, it is taken to be done."""
        if now - self._last < self._pause:
            return False
        self._last = now
        return True

    def flushed(self, took: float) -> None:
        """Note how long a flush took."""
        self._pause = min(max(_LEAST_PAUSE, _COST * took), _LONGEST_PAUSE)


class _Flusher:
    """Flushes behind the writer and knows how much the drive has surely taken."""

    def __init__(self, medium: Medium, tell_taken: Callable[[int, bytes], None]) -> None:
        self._medium, self._tell_taken = medium, tell_taken
        self._asked: queue.Queue[tuple[int, bytes] | None] = queue.Queue()
        self._pace = Pace(time.monotonic())
        self._taken = 0
        self._error: KeystoneError | None = None
        self._thread = threading.Thread(target=self._run, name="flusher", daemon=True)
        self._thread.start()

    def taken(self, done: int, digest: blake3, *, anything_written: bool) -> int:
        """Note that `done` bytes were handed over or found right, with the `digest` of their hashes.

        Return how many of them are surely on the medium.
        """
        if self._error is not None:
            raise self._error
        if not anything_written:
            self._taken = done
        elif self._pace.is_due(time.monotonic()):
            self._asked.put((done, digest.digest()))
        return self._taken

    def stop(self) -> None:
        self._asked.put(None)
        self._thread.join()

    def finish(self) -> None:
        """Flush what is left and raise what went wrong on the way."""
        if self._error is not None:
            raise self._error
        self._medium.flush()

    def _run(self) -> None:
        try:
            while (asked := self._asked.get()) is not None:
                while not self._asked.empty():  # the newest request covers the older ones
                    newer = self._asked.get()
                    if newer is None:
                        return
                    asked = newer
                begun = time.monotonic()
                self._medium.flush()
                self._tell_taken(*asked)
                self._taken = asked[0]
                self._pace.flushed(time.monotonic() - begun)
        except KeystoneError as error:
            self._error = error
