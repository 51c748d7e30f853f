"""Tries again what failed in a way that may pass: a few times for each place, a number of times for the whole drive."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from typing import TypeVar

from ..common.errors import DriveError, Transient
from .medium import OpenMedium

_T = TypeVar("_T")

PAUSES = (0.1, 0.5, 2.0)
"""Seconds before each further attempt at one place."""

MOST = 100
"""Failures on one drive after which continuing is pointless."""


class Retrying:
    """A medium whose passing failures are tried again; `retries` counts them."""

    def __init__(self, medium: OpenMedium, *, pauses: Sequence[float] = PAUSES, most: int = MOST) -> None:
        self.opened, self.size = medium, medium.size
        self.retries = 0
        self._pauses, self._most = tuple(pauses), most

    def write_at(self, offset: int, data: memoryview) -> None:
        self._attempt(lambda: self.opened.write_at(offset, data))

    def write_zeros(self, offset: int, size: int) -> None:
        self._attempt(lambda: self.opened.write_zeros(offset, size))

    def readinto_at(self, offset: int, view: memoryview) -> None:
        self._attempt(lambda: self.opened.readinto_at(offset, view))

    def read_at(self, offset: int, size: int) -> bytes:
        return self._attempt(lambda: self.opened.read_at(offset, size))

    def flush(self) -> None:
        """Flush, once: what a failed flush has lost stays lost, and a second one would say that all is well."""
        self.opened.flush()

    def forget_cache(self) -> None:
        self.opened.forget_cache()

    def close(self) -> None:
        self.opened.close()

    def _attempt(self, action: Callable[[], _T]) -> _T:
        for pause in self._pauses:
            try:
                return action()
            except Transient as error:
                self.retries += 1
                if self.retries > self._most:
                    raise DriveError(
                        f"{error.message} That was failure number {self.retries}.",
                        advice="The drive is failing: use another one.",
                    ) from error
                time.sleep(pause)
        try:
            return action()
        except Transient as error:
            raise DriveError(f"{error.message} Tried {len(self._pauses) + 1} times.", advice=error.advice) from error
