"""Reads and hashes a source's blocks once, for one drive or for several that are written in the same pass.

A thread fills blocks ahead into a fixed number of buffers; each follower takes the blocks in order, and a buffer is
used again when every follower is done with it. So the reader is as fast as the slowest follower. One that holds up the
others for long is overtaken: it leaves the pass and reads on for itself.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Generator, Iterator, Sequence

from msgspec import Struct, field

from ..common.errors import SourceError
from ..content.buffers import aligned_buffer, digest_of
from ..content.contents import BLOCK, Reader
from ..content.extents import Extent
from ..content.regions import Region

_AHEAD = 4  # buffers for one follower
_SHARED_AHEAD = 6  # and for several
_FORESEEN = 16 << 20
"""Bytes of a drive that contents are begun ahead."""
_ENDING = 5.0
"""Seconds that whoever leaves waits for the reader to end."""
PATIENCE = 2.0
"""Seconds that one follower may hold up the others in all, and a tenth of the pass besides."""


class Block(Struct):
    """Bytes on their way to a drive. `view` is valid until the follower asks for the next block."""

    number: int
    offset: int
    view: memoryview
    digest: bytes
    buffer: memoryview
    """What `view` is the front of; goes back to the reader."""
    waited_for: set[int] = field(default_factory=set)
    """Followers that have not yet done with it."""


class Overtaken(Exception):
    """The follower was too slow for the pass. `number` is the block it has to continue with."""

    def __init__(self, number: int) -> None:
        super().__init__(number)
        self.number = number


class Feed:
    """Blocks of `regions` for `followers` that each take all of them, in order."""

    def __init__(
        self,
        regions: Sequence[Region],
        followers: int = 1,
        *,
        first: int = 0,
        patience: float = PATIENCE,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        """`first` is the number of the first block that is given out; those before are read all the same.

        They have to be: sums over what was streamed are part of what comes later.
        """
        self._clock = clock
        self._regions, self._first, self._patience = regions, first, patience
        self._changed = threading.Condition()
        self._free = [aligned_buffer() for _ in range(_AHEAD if followers == 1 else _SHARED_AHEAD)]
        self._window: dict[int, Block] = {}
        self._next = dict.fromkeys(range(followers), first)
        self._left_at: dict[int, int] = {}
        self._held_up = dict.fromkeys(range(followers), 0.0)
        self._finished = False
        self._stopping = False
        self._error: BaseException | None = None
        self._started = clock()
        self._thread = threading.Thread(target=self._run, name="reader", daemon=True)
        self._thread.start()

    # -- the followers' side -------------------------------------------------------------------------------------

    def follow(self, follower: int = 0) -> Generator[Block, None, None]:
        """Yield every block once. Raises SourceError, and Overtaken when this follower is left behind."""
        try:
            while (block := self._take(follower)) is not None:
                try:
                    yield block
                finally:
                    self._done_with(block, follower)
        finally:
            self.leave(follower)

    def leave(self, follower: int) -> None:
        """Wait for this follower no longer; when the last one leaves, the reader ends."""
        with self._changed:
            self._forget(follower)
            last = not self._next
            if last:
                self._stopping = True
            self._changed.notify_all()
        if last and threading.current_thread() is not self._thread:
            self._thread.join(_ENDING)  # it may be waiting for a server

    def _take(self, follower: int) -> Block | None:
        with self._changed:
            while True:
                if follower not in self._next:
                    raise Overtaken(self._left_at[follower])
                number = self._next[follower]
                if number in self._window:
                    self._next[follower] = number + 1
                    return self._window[number]
                if self._error is not None:
                    raise self._error
                if self._finished:
                    return None
                self._changed.wait()

    def _done_with(self, block: Block, follower: int) -> None:
        with self._changed:
            self._unhold(block, follower)
            self._changed.notify_all()

    def _unhold(self, block: Block, follower: int) -> None:
        block.waited_for.discard(follower)
        if not block.waited_for and self._window.pop(block.number, None) is not None:
            self._free.append(block.buffer)

    def _forget(self, follower: int) -> None:
        """Take a follower out; a block it is busy with stays its own until it is done."""
        upcoming = self._next.pop(follower, None)
        if upcoming is None:
            return
        self._left_at[follower] = upcoming
        for number in [number for number in self._window if number >= upcoming]:
            self._unhold(self._window[number], follower)

    # -- the reader's side ---------------------------------------------------------------------------------------

    def _run(self) -> None:
        try:
            number = 0
            for region in self._regions:
                pieces = _RegionReader(region)
                try:
                    for start in range(0, region.size, BLOCK):
                        buffer = self._buffer()
                        if buffer is None:
                            return
                        view = buffer[: min(BLOCK, region.size - start)]
                        pieces.fill(view)
                        self._give(number, region.offset + start, view, buffer)
                        number += 1
                finally:
                    pieces.close()
            with self._changed:
                self._finished = True
                self._changed.notify_all()
        except BaseException as error:  # noqa: BLE001 - raised again in each follower's thread
            with self._changed:
                self._error = error
                self._changed.notify_all()

    def _give(self, number: int, offset: int, view: memoryview, buffer: memoryview) -> None:
        if number < self._first:
            with self._changed:
                self._free.append(buffer)
            return
        digest = digest_of(view)
        with self._changed:
            block = Block(number, offset, view, digest, buffer, set(self._next))
            if block.waited_for:
                self._window[number] = block
            else:
                self._free.append(buffer)
            self._changed.notify_all()

    def _buffer(self) -> memoryview | None:
        """Return a free buffer, waiting for the slowest follower; None when nobody follows any more."""
        with self._changed:
            while not self._free and not self._stopping:
                before = self._clock()
                self._changed.wait(0.05)
                self._judge(self._clock() - before)
            return None if self._stopping else self._free.pop()

    def _judge(self, waited: float) -> None:
        """Charge the time the reader waited to the one follower that all others wait for; in the end, overtake it."""
        behind = [follower for follower in self._next if self._is_busy(follower)]
        starving = len(self._next) - len(behind)
        if len(behind) != 1 or not starving:
            return
        slow = behind[0]
        self._held_up[slow] += waited
        if self._held_up[slow] > self._patience + 0.1 * (self._clock() - self._started):
            self._forget(slow)
            self._changed.notify_all()

    def _is_busy(self, follower: int) -> bool:
        return any(follower in block.waited_for for block in self._window.values())


def _announced(extents: Sequence[Extent]) -> Iterator[Extent]:
    """Yield extents in order; those that want it are told before, so that they are made beside what is being read."""
    ahead = 0
    for extent in extents:
        while ahead < len(extents) and extents[ahead].offset < extent.offset + _FORESEEN:
            begin = getattr(extents[ahead].content, "begin", None)  # content.Foreseen, of hundreds of thousands
            if begin is not None:
                begin()
            ahead += 1
        yield extent


class _RegionReader:
    """Reads the extents of a region one after the other."""

    def __init__(self, region: Region) -> None:
        self._extents = _announced(region.extents)
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
                    f"A content in '{self._name}' ended {self._left} bytes early.",
                    advice="The source changed or is damaged.",
                )
            done += got
            self._left -= got

    def close(self) -> None:
        if self._reader is not None:
            self._reader.close()
            self._reader = None
