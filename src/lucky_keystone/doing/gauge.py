"""The run of `gauge`: confirmed where it writes, measured, and what marks overwrote put back."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager

from msgspec import Struct

from ..common.interrupts import HeldInterrupts
from ..drives.guards import Guard
from ..drives.medium import OpenMedium
from ..drives.retrying import Retrying
from ..gauging.gauge import Gauged, Mode, gauge
from ..gauging.journal import FileJournal, put_back, refuse_lost
from .dialogue import Dialogue
from .logged import Logged
from .targets import Chosen, open_for_writing, reading

_PAUSE = 0.05
"""Seconds before a failing place is tried once more."""


class GaugeRun(Struct, frozen=True):
    """One run on one drive."""

    chosen: Chosen
    dialogue: Dialogue
    lifted: frozenset[Guard]

    def measure(self, mode: Mode, *, whole: bool) -> Gauged:
        """Measure the drive, as `gauge` does; what writes is confirmed first."""
        with Logged("gauge", self.chosen) as log:
            found = self._read(whole=whole) if mode == "read" else self._write(mode, whole=whole)
            log.healthy, log.detail = found.healthy, found.capacity.summary
            log.blamed = not found.healthy
            log.reading = round(found.reading.typical)
            log.writing = round(found.writing.typical) if found.writing else 0
        return found

    def restore(self) -> int:
        """Put back what marks of an interrupted run overwrote; return in how many places."""
        journal = self.chosen.journal()
        if journal.read() is None:
            return 0
        self.dialogue.confirm_loss(self.chosen, "kept; only marks of an interrupted run are replaced")
        with Logged("gauge", self.chosen) as log:
            with self._opened() as medium:
                count = _put_back(medium, journal)
            log.detail = "restored"
        return count

    def _read(self, *, whole: bool) -> Gauged:
        name = self.chosen.name
        if self.chosen.journal().path.exists():
            self.dialogue.tell(
                f"Note: marks of an interrupted run are still on {name}. "
                f"'lucky-keystone gauge {name} --restore' restores what they overwrote."
            )
        with reading(self.chosen) as medium, self.dialogue.progress() as progress:
            return gauge(_patient(medium), progress, "read", whole=whole)

    def _write(self, mode: Mode, *, whole: bool) -> Gauged:
        journal = self.chosen.journal()
        will = "erased" if mode == "erase" else "overwritten in places, and restored"
        self.dialogue.confirm_loss(self.chosen, will)
        with self._opened() as medium, self.dialogue.progress() as progress:
            if mode == "marks":
                _put_back(medium, journal)
            else:
                journal.clear()
            return gauge(_patient(medium), progress, mode, whole=whole, journal=journal)

    @contextmanager
    def _opened(self) -> Iterator[OpenMedium]:
        with closing(open_for_writing(self.chosen, self.chosen.size, 0, lifted=self.lifted)) as medium:
            yield medium


def _put_back(medium: OpenMedium, journal: FileJournal) -> int:
    """Put back what a run that was cut off overwrote; return in how many places there was something to be put back."""
    kept = journal.read()
    if kept is None:
        journal.clear()  # of one that was cut off before its first entry
        return 0
    with HeldInterrupts():
        refuse_lost(put_back(medium, *kept), journal)
        journal.clear()
    return len(kept[1])


def _patient(medium: OpenMedium) -> OpenMedium:
    """A failing place is a result here, not an obstacle: it is tried once more and no longer."""
    return Retrying(medium.opened, pauses=(_PAUSE,), most=1 << 30) if isinstance(medium, Retrying) else medium
