"""Clocks that do not wait."""

from __future__ import annotations


class Simulated:
    """A clock that jumps instead of waiting."""

    def __init__(self) -> None:
        self.time, self.slept = 0.0, list[float]()

    def now(self) -> float:
        return self.time

    def sleep(self, seconds: float) -> None:
        self.slept.append(seconds)
        self.time += seconds


class Tireless(Simulated):
    """Never really waits."""

    def stop(self) -> None:
        pass
