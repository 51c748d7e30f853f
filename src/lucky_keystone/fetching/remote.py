"""An image on a server, read like a file: at any offset, and proven by its sum when it was read as a whole.

Small reads come from a cache of granules. Where much is read in order, one long answer is read ahead of it. The sum is
taken over all bytes in order, whoever asked for them; those that nobody asked for are fetched before it is compared.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field

from ..common.errors import Interrupted, SourceError
from ..common.progress import Progress
from ..content.contents import IMAGE_ORDER
from ..content.source_file import SourceFile
from .answers import Passing
from .blocks import BlockSums
from .granules import Granules
from .link import Link, refuse_unproven
from .patience import Events, Patience, RealClock
from .ranges import GRANULE, Ranges, Read
from .streaming import Stream
from .summing import Summing

if TYPE_CHECKING:
    from .client import Client

_NEIGHBOURS = 4  # granules between two that are asked for, which are cheaper to read than a further request
_MOST_AT_ONCE = 32  # granules of one request, as reading in order continues
_LARGE = 128 << 10
"""Bytes of a read that is worth a stream."""
_GAP = 8 << 20
"""Bytes that are rather read and dropped than jumped over."""
_STREAMS = 4


class Terms(Struct, frozen=True):
    """How images are read."""

    sha256: str = ""
    """That the image is to have; '' where none is known."""
    authority: Path | None = None
    """Certificates that are trusted beside the system's."""
    events: Events = field(default_factory=Events)
    blocks: BlockSums | None = None
    """Sums of its blocks, where they are known: each is proven before its bytes are given out."""
    keep: Callable[[bytes], None] | None = None
    """Takes all bytes of the image, in order."""
    disc: Callable[[Path], SourceFile | None] = lambda _path: None
    """Opens a simulated disc; None where a path does not name one."""


class _JustCame(Exception):
    """The bytes that a new stream would have been for came with another one meanwhile."""


class RemoteFile:
    """Has what a file of a source has; safe for several threads."""

    def __init__(self, link: Link, terms: Terms, client: Client | None = None) -> None:
        """Ask the server what it is. Raises UsageError where nothing could prove it, and SourceError."""
        refuse_unproven(link, terms.sha256)
        self.path, self.underlying, self.order = link, None, IMAGE_ORDER
        self.sha256 = terms.sha256
        self._events, self._clock = terms.events, RealClock()
        if client is None:
            from .client import HttpClient  # its packages take their time to load

            client = HttpClient(terms.authority)
        self._client = client
        self._ranges = Ranges(link, client)
        self._lock, self._proving = threading.Lock(), threading.Lock()
        self._streams: list[Stream] = []
        self._reads_all = False
        self._later: list[tuple[int, int]] = []
        self._stopped = False
        self._run_end, self._at_once = -1, 1
        head = self._download(0, GRANULE)
        self._ranges.refuse_page(head)
        self.size = self._ranges.size
        self._sum = Summing(terms.keep)
        self._granules = Granules(self.size, self._lock, self._sum, self._ranges.changed)
        self._blocks = terms.blocks if terms.blocks is not None and terms.blocks.fits(self.size) else None
        self._is_kept = terms.keep is not None
        self._granules.keep(0, head)

    def acquire(self) -> int:
        """Return a descriptor: connections are opened when bytes are asked for."""
        return 0

    def release(self, descriptor: int) -> None:
        """One user less."""

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        """Fill `view` from byte `offset`. Raises SourceError, and Interrupted after `stop`."""
        if offset + len(view) > self.size:
            raise SourceError(
                f"{self.path.shown} ends at byte {self.size:,}; {offset + len(view) - self.size:,} more bytes were "
                "expected there.",
                advice="It is incomplete on the server: use another link.",
            )
        while True:
            kept = self._granules.fill(offset, view)
            offset, view = offset + kept, view[kept:]
            if not len(view):
                return
            try:
                stream = self._stream_for(offset, len(view))
            except _JustCame:
                continue
            if stream is None:
                self._fetch(offset, view)
                return
            if stream.take(offset, view):
                return

    def read_in_order(self, later: Sequence[tuple[int, int]]) -> None:
        """Prepare for reading all of it.

        `later` are the ranges (offset, size in bytes) of large contents that are to be read: what lies between two
        reads is passed over where no such range needs it.
        """
        with self._lock:
            if self._reads_all:
                self._granules.serve_several()
            self._reads_all, self._later = True, sorted(later)

    def lend(self, offset: int, size: int, read: Read) -> None:
        """Have bytes of it here: `read` fills a buffer with those from an offset of the file."""
        self._ranges.lend(offset, size, read)

    def prove(self, progress: Progress) -> None:
        """Compare the sum of the whole, reading what of it was not read yet. Raises SourceError."""
        if not self.sha256 and not self._is_kept:
            return
        with self._proving:
            if self._granules.frontier < self.size:
                self._read_rest(progress)
        found = self._sum.hexdigest()
        if self.sha256 and found != self.sha256:
            raise SourceError(
                f"{self.path.shown}: its SHA-256 is {found}, not {self.sha256} as it should be.",
                advice="It is damaged on the server, or another image: check link and sum.",
            )

    def _read_rest(self, progress: Progress) -> None:
        """Read what the sum does not cover yet."""
        buffer = memoryview(bytearray(1 << 20))
        while (at := self._granules.frontier) < self.size:
            with self._lock:
                self._refuse_stopped()
                through = (each for each in self._streams if each.position <= at <= each.arrived + _GAP)
                stream = next(through, None)
                stream = stream or self._new_stream(at)
            while stream.position < self.size:
                size = min(len(buffer), self.size - stream.position)
                if not stream.take(stream.position, buffer[:size]):
                    break
                progress("proving the source", min(stream.position, self.size - 1), self.size)
        progress("proving the source", self.size, self.size)

    @property
    def found_sha256(self) -> str:
        """The SHA-256 that it has, once all of it was read."""
        return self._sum.hexdigest() if self._granules.frontier == self.size else ""

    @property
    def proven(self) -> bool:
        """True when all of it was read, and has the sum that is wanted."""
        return bool(self.sha256) and self._granules.frontier == self.size and self._sum.hexdigest() == self.sha256

    def stop(self) -> None:
        """Let nobody wait for the server any more."""
        self._stopped = True
        self._clock.stop()
        with self._lock:
            for stream in self._streams:
                stream.stop()
            self._streams.clear()

    def close(self) -> None:
        """Drop all connections."""
        self.stop()
        self._sum.close()
        self._client.close()

    # -- asking for granules -----------------------------------------------------------------------------------------

    def _fetch(self, offset: int, view: memoryview) -> None:
        """Fill `view` by requests for just the granules that are missing."""
        done = 0
        while done < len(view):
            at = offset + done
            most = min(len(view) - done, _MOST_AT_ONCE * GRANULE - at % GRANULE)
            kept = self._granules.fill(at, view[done : done + most])
            done += kept
            if kept < most:
                self._ask_for((at + kept) // GRANULE, -(-(at + most) // GRANULE))

    def _ask_for(self, first: int, end: int) -> None:
        """Ask for the granules from `first` to `end`, without those at either side that are here."""
        with self._lock:
            missing = [number for number in range(first, end) if not self._granules.holds(number)]
            if not missing:
                return
            first, end = missing[0], missing[-1] + 1
            continues = 0 <= first - self._run_end <= _NEIGHBOURS
            self._at_once = min(2 * self._at_once, _MOST_AT_ONCE) if continues else 1
            first = self._run_end if continues else first
            end = min(max(end, first + self._at_once), -(-self.size // GRANULE))
            self._run_end = end
        start, stop = first * GRANULE, min(end * GRANULE, self.size)
        self._granules.keep(first, self._download(start, stop))

    def _download(self, start: int, stop: int) -> bytes:
        """Return the bytes from `start` to `stop`, or the file's end, asking until all came.

        Raises SourceError, and Interrupted after `stop`.
        """
        patience, found = self._patience(start), bytearray()
        while not self._stopped:
            try:
                at = start + len(found)
                until = min(stop, self._ranges.until(at)) if self._ranges.is_known else stop
                body = self._ranges.open(at, until)
                stop, until = min(stop, self._ranges.size), min(until, self._ranges.size)
                try:
                    while piece := body.read(until - start - len(found)):
                        found += piece
                finally:
                    body.close()
                if len(found) >= stop - start:
                    return bytes(found)
                if start + len(found) < until:
                    raise Passing("the connection ended early")
            except Passing as passing:
                patience.wait(passing, start + len(found), "nothing was written")
        self._refuse_stopped()
        raise AssertionError("only stopping ends it")

    def _refuse_stopped(self) -> None:
        if self._stopped:
            raise Interrupted("Stopped before the end.")

    def _patience(self, at: int = 0) -> Patience:
        return Patience(self.path.shown, self._events, self._clock, at=at)

    # -- streams -----------------------------------------------------------------------------------------------------

    def _stream_for(self, offset: int, size: int) -> Stream | None:
        """Return the stream that comes by `offset` soon, a new one where much is read there; None for a few bytes.

        Raises _JustCame where the bytes are kept now.
        """
        with self._lock:
            self._refuse_stopped()
            near = [each for each in self._streams if self._passes(each.position, offset)]
            if near:
                return max(near, key=lambda each: each.position)
            if not self._reads_all or (size < _LARGE and not self._passes(self._granules.frontier, offset)):
                return None
            if self._granules.holds(offset // GRANULE):
                raise _JustCame
            start = self._granules.frontier if self._passes(self._granules.frontier, offset) else offset
            return self._new_stream(start)

    def _passes(self, position: int, offset: int) -> bool:
        """Tell whether reading from `position` is the way to `offset`."""
        if not position <= offset:
            return False
        if offset - position <= _GAP:
            return True
        # For the sum, what lies between is read sooner or later: now, unless a content of it comes later anyway.
        return bool(
            (self.sha256 or self._is_kept)
            and self._granules.frontier - _GAP <= position <= self._granules.frontier
            and not any(position <= at and at + size <= offset for at, size in self._later)
        )

    def _new_stream(self, start: int) -> Stream:
        start -= start % GRANULE
        while len(self._streams) >= _STREAMS:
            self._streams.pop(0).stop()
        if self._blocks is not None:
            start -= start % self._blocks.block_size
        stream = Stream(self._ranges, start, self._granules.admit, self._patience(start), self._blocks)
        self._streams.append(stream)
        return stream
