"""Gauges a drive: by reading only, by marks that are put back, or by writing all of it."""

from __future__ import annotations

import math
import secrets
from functools import reduce
from typing import Literal

from msgspec import Struct

from ..common.progress import Progress
from ..content.buffers import aligned_buffer
from ..drives.medium import Medium
from .capacity import Capacity, look_for_repetition, probe_capacity
from .journal import MarksJournal, NoJournal
from .marks import CHUNK, Marker
from .rates import Rates, read_marks, read_rates, write_everything

Mode = Literal["read", "marks", "erase"]


class Gauged(Struct, frozen=True):
    """What was found out about a drive."""

    mode: Mode
    size: int
    capacity: Capacity
    reading: Rates
    writing: Rates | None

    @property
    def healthy(self) -> bool:
        """True when it is neither fake nor failing anywhere it was looked at."""
        return not self.capacity.is_fake and not self.reading.bad and not (self.writing and self.writing.bad)


def gauge(
    medium: Medium, progress: Progress, mode: Mode = "read", *, whole: bool = False, journal: MarksJournal | None = None
) -> Gauged:
    """Measure `medium`. Only 'read' writes nothing; 'marks' puts back what it overwrote, 'erase' loses everything.

    `whole` reads all of it instead of samples. `journal` keeps what marks overwrite until it is back. Raises DriveGone
    when the drive vanishes, DriveError where something could not be put back.
    """
    buffer = aligned_buffer()
    marker = Marker(secrets.token_bytes(16))
    if mode == "erase":
        writing = write_everything(medium, marker, progress, buffer)
        reading, distances = read_marks(medium, marker, progress, buffer)
        capacity = _capacity_of(medium.size, reading, writing, distances)
        if (
            capacity.is_fake
        ):  # what is not there does not fail; and of a repeating one only what was written last is right
            reading.bad, writing.bad = [], []
        return Gauged(mode, medium.size, capacity, reading, writing)
    reading = read_rates(medium, progress, whole=whole, buffer=buffer)
    if mode == "marks":
        capacity = probe_capacity(medium, marker, progress, journal=journal or NoJournal())
        return Gauged(mode, medium.size, capacity, reading, None)
    capacity = look_for_repetition(medium, progress)
    if reading.bad and sum(reading.bad[-1]) == medium.size and not whole:
        first = reading.bad[-1][0]
        capacity = Capacity(
            "not known", medium.size, None, f"Nothing could be read towards its end, from about byte {first:,} on."
        )
    return Gauged(mode, medium.size, capacity, reading, None)


def _capacity_of(size: int, reading: Rates, writing: Rates, distances: set[int]) -> Capacity:
    """Judge from a whole drive of marks."""
    if distances:
        period = reduce(math.gcd, distances)
        return Capacity(
            "repeats",
            size,
            period,
            f"It claims to hold {size:,} bytes, but its addresses repeat every {period:,} bytes.",
        )
    bad = reading.bad or writing.bad
    if not bad:
        return Capacity("holds", size, size, "It holds what it claims: every byte was written and read back.")
    first, length = bad[-1]
    if first + length >= size // CHUNK * CHUNK:
        verdict: Literal["ends", "loses"] = "ends" if writing.bad else "loses"
        how = "fails" if writing.bad else "loses what is written"
        return Capacity(verdict, size, first, f"It claims to hold {size:,} bytes, but {how} from byte {first:,} on.")
    lost = sum(length for _, length in bad)
    places = f"{len(bad)} places" if len(bad) > 1 else "one place"
    return Capacity("not known", size, None, f"{lost:,} bytes in {places} do not keep what is written: it is failing.")
