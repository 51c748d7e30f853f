"""How long a server is waited for: breaks are counted since the last progress, and pauses grow."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Callable
from typing import Protocol

from msgspec import Struct, field

from ..common.errors import SourceError
from .answers import Passing

_PROGRESS = 256 << 10
"""Bytes after which a connection has done something: the count of tries begins again."""
_TRIES = 8
_PATIENT = 3600.0
_LONGEST_WAIT = 60.0


class Clock(Protocol):
    """Time as it passes; another one in tests."""

    def now(self) -> float:
        """Return seconds that only rise."""

    def sleep(self, seconds: float) -> None:
        """Wait."""


class RealClock:
    """Of the computer at hand. Whoever sleeps is woken by `stop`."""

    def __init__(self) -> None:
        self._stopped = threading.Event()

    def now(self) -> float:
        return time.monotonic()

    def sleep(self, seconds: float) -> None:
        self._stopped.wait(seconds)

    def stop(self) -> None:
        """Let nobody sleep any more."""
        self._stopped.set()


class Events(Struct):
    """What happened on the way."""

    interruptions: int = 0
    resumed_at: int = 0
    """Bytes that were here already."""
    damaged: int = 0
    """Bytes here that no longer had their hash, and were fetched again."""
    connections: int = 1
    """How many were used at the same time, at most."""
    told: Callable[[str], None] = field(default=lambda _text: None)
    """Called with each break, and how long it waits."""


class Patience:
    """Counts the breaks of one download."""

    def __init__(self, shown: str, events: Events, clock: Clock, *, is_patient: bool = False, at: int = 0) -> None:
        """`shown` names the link in errors; `at` is how many bytes were there when it began."""
        self._shown, self._events, self._clock, self._is_patient = shown, events, clock, is_patient
        self._tries, self._waited, self._mark = 0, 0.0, at

    def wait(self, passing: Passing, at: int, kept: str) -> None:
        """Wait after a break at byte `at`. Raises SourceError where that was often enough; `kept` says what is here."""
        if at - self._mark >= _PROGRESS:
            self._tries, self._waited, self._mark = 0, 0.0, at
        self._tries += 1
        self._events.interruptions += 1
        pause = passing.wait if passing.wait is not None else self._pause()
        self._waited += pause
        if self._tries > (passing.tries or _TRIES) and not (self._is_patient and self._waited < _PATIENT):
            raise SourceError(
                f"{self._shown}: {passing.what}, {self._tries} times without progress; {kept}.",
                advice="Check the link and the connection, or run the command again later: it continues then.",
            ) from passing
        self._events.told(f"{passing.what}; trying again in {pause:.0f} s")
        self._clock.sleep(pause)

    def _pause(self) -> float:
        most = min(2.0 ** (self._tries - 1), _LONGEST_WAIT)
        return most * (0.5 + random.random() / 2)  # noqa: S311 - so that many do not ask at the same moment
