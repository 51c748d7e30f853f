"""How fast work goes and how long it will still take, by its own latest rate."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable

from ..common.units import shown_size

_WINDOW = 10.0
"""Seconds that the rate is taken over: what is slow now counts, not what was fast at first."""
_SURE_AFTER = 1.0
"""Seconds before a time left is named."""


class Pace:
    """The rate of one stage. Bytes, seconds."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._began = clock()
        self._marks: deque[tuple[float, int]] = deque([(self._began, 0)])

    def mark(self, done: int) -> None:
        """Note how far the work is."""
        now = self._clock()
        self._marks.append((now, done))
        while len(self._marks) > 2 and self._marks[1][0] <= now - _WINDOW:
            self._marks.popleft()

    @property
    def seconds(self) -> float:
        return max(self._clock() - self._began, 1e-3)

    @property
    def rate(self) -> float:
        """Bytes a second, over the last seconds; 0 while nothing moves."""
        (first, before), (_, done) = self._marks[0], self._marks[-1]
        return max(done - before, 0) / max(self._clock() - first, 1e-3)

    def left(self, total: int) -> float | None:
        """Return how many seconds the rest of `total` bytes takes; None while that cannot be known."""
        rest = total - self._marks[-1][1]
        return rest / self.rate if rest > 0 and self.rate and self.seconds > _SURE_AFTER else None

    def status(self, total: int, retries: int = 0) -> str:
        """Say how far it is: bytes, rate, time left, what had to be tried again."""
        done = self._marks[-1][1]
        parts = [f"{shown_size(done)} of {shown_size(total)}"]
        if rate := int(self.rate):
            parts.append(f"{shown_size(rate)}/s")
        if (left := self.left(total)) is not None:
            parts.append(f"{shown_seconds(left)} left")
        if retries:
            parts.append(f"{retries} {'retry' if retries == 1 else 'retries'}")
        return ", ".join(parts)

    def summary(self, done: int, total: int) -> str:
        """Say what a stage was that has ended, and how far it came."""
        if total < 1 << 20:
            return f"{self.seconds:.1f} s"
        came = (
            f"{shown_size(done)} in" if done >= total else f"stopped at {shown_size(done)} of {shown_size(total)} after"
        )
        return f"{came} {shown_seconds(self.seconds)}, {shown_size(int(done / self.seconds))}/s"


def shown_seconds(seconds: float) -> str:
    """Return a duration for people: '0.3 s', '42 s', '3 min 05 s', '2 h 10 min'."""
    if seconds < 10:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60:02} s"
    return f"{whole // 3600} h {whole % 3600 // 60:02} min"
