"""Several connections at once: each fetches a segment, and what came is given on in order.

Memory is bounded by the window that segments are taken from. Whether a further connection helps is measured, not
assumed: many servers share one rate among all of them, and some refuse a second one. A connection that breaks is not
opened again; what it brought is kept, and another one fetches the rest.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator

from ..common.errors import SourceError
from .answers import Body, Passing
from .patience import Clock

SEGMENT = 4 << 20
_AHEAD = 2
"""Segments for each connection that may be on their way, or wait for their turn."""
_PIECE = 256 << 10
_MEASURED = 5.0
"""Seconds after which a number of connections is judged."""
_ENDING = 2.0
"""Seconds that connections may take to end; one that takes longer ends by itself."""
_WORTH = 1.15
"""How many times the rate a further connection has to bring."""

Open = Callable[[int, int], Body]
"""Asks for the bytes from one offset to another, and judges the answer. Raises Passing or SourceError."""


class Segments:
    """The bytes of a file from `start` to `end`, in order, over up to `most` connections."""

    def __init__(self, open_range: Open, start: int, end: int, most: int, judge: Judge) -> None:
        self._open, self._end, self._most, self._judge = open_range, end, most, judge
        self._given = self._next_start = start
        self._came: dict[int, bytearray] = {}
        """What came of each segment that was begun and not given on, by its first byte."""
        self._lost: list[int] = []
        """Segments whose connection broke."""
        self._running = self._wanted = 0
        self._error: Passing | SourceError | None = None
        self._fault: BaseException | None = None
        self._stopped = False
        self._changed = threading.Condition()

    @property
    def given(self) -> int:
        """The byte that is given on next."""
        return self._given

    @property
    def connections(self) -> int:
        """How many are used at the moment."""
        return self._running

    def pieces(self) -> Iterator[bytes]:
        """Yield the bytes that were not yielded yet.

        Raises what the last connection ended in when all broke; called again, it continues from there, with one.
        """
        self._stopped = False
        self._use(min(self._judge.used, self._most))
        try:
            while self._given < self._end:
                yield self._next()
                self._use(min(self._judge.connections(self._given), self._most))
        finally:
            with self._changed:
                self._stopped = True
                self._changed.notify_all()
                self._changed.wait_for(lambda: not self._running, _ENDING)

    def _next(self) -> bytes:
        with self._changed:
            size = min(SEGMENT, self._end - self._given)
            while len(self._came.get(self._given, b"")) < size:
                if self._fault is not None:
                    raise self._fault
                if not self._running:
                    error, self._error = self._error, None
                    raise error or Passing("the connections ended")
                self._changed.wait()
            data = bytes(self._came.pop(self._given))
            self._given += size
            self._changed.notify_all()
            return data

    def _use(self, count: int) -> None:
        """Have so many connections; those that are too many end with their segment."""
        with self._changed:
            self._wanted = count
            while self._running < count:
                self._running += 1
                threading.Thread(target=self._run, name="segments", daemon=True).start()
            self._changed.notify_all()

    # -- the threads that download -----------------------------------------------------------------------------------

    def _run(self) -> None:
        start: int | None = None
        try:
            while (start := self._take()) is not None:
                self._fetch(start)
        except (Passing, SourceError) as error:
            with self._changed:
                self._error = error
                self._most = max(self._most - 1, 1)
        except BaseException as fault:  # noqa: BLE001 - raised again for whoever takes the bytes
            with self._changed:
                self._fault = fault
        finally:
            with self._changed:
                if start is not None:
                    self._lost.append(start)
                self._running -= 1
                self._changed.notify_all()

    def _take(self) -> int | None:
        """Return where a segment begins that is to be fetched; None where this connection is not wanted any more."""
        with self._changed:
            while not self._stopped and self._running <= max(self._wanted, 1):
                if self._lost:
                    self._lost.sort()
                    return self._lost.pop(0)
                if self._next_start >= self._end:
                    return None
                if self._next_start - self._given < _AHEAD * SEGMENT * max(self._wanted, 1):
                    start, self._next_start = self._next_start, self._next_start + SEGMENT
                    self._came[start] = bytearray()
                    return start
                self._changed.wait()
            return None

    def _fetch(self, start: int) -> None:
        """Fetch what a segment lacks."""
        came, end = self._came[start], min(start + SEGMENT, self._end)
        body = self._open(start + len(came), end)
        try:
            while (at := start + len(came)) < end:
                if self._stopped:
                    raise Passing("it was stopped")
                piece = body.read(min(_PIECE, end - at))
                if not piece:
                    raise Passing("the connection ended early")
                with self._changed:
                    came += piece
                    self._changed.notify_all()
        finally:
            body.close()


class Judge:
    """Decides by the rate how many connections are used."""

    def __init__(self, clock: Clock, most: int, rate: float) -> None:
        """`rate` is that of one connection, in bytes a second."""
        self._clock, self._most, self._rate = clock, most, rate
        self.used = 2
        """How many connections are to be used."""
        self._since, self._at = clock.now(), -1
        self._is_settled = False

    def connections(self, at: int) -> int:
        """Return how many connections to use, when byte `at` was given on."""
        now = self._clock.now()
        if self._at < 0:
            self._since, self._at = now, at
        if self._is_settled or now - self._since < _MEASURED:
            return self.used
        rate = (at - self._at) / (now - self._since)
        self._since, self._at = now, at
        if rate < _WORTH * self._rate:
            self._is_settled, self.used = True, self.used - 1
        elif self.used >= self._most:
            self._is_settled = True
        else:
            self._rate, self.used = rate, self.used + 1
        return self.used
