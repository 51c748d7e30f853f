"""How fast a drive is over its whole length, and where it fails."""

from __future__ import annotations

import time
from collections.abc import Iterator
from statistics import median

from msgspec import Struct, field

from ..common.errors import DriveError, DriveGone
from ..common.progress import Progress
from ..content.contents import BLOCK
from ..drives.medium import Medium
from .marks import CHUNK, Marker

_SAMPLES = 256
_MOST_DISTANCES = 4096


class Sample(Struct, frozen=True):
    """One stretch that was read or written."""

    offset: int
    size: int
    """Bytes."""
    seconds: float

    @property
    def rate(self) -> float:
        """Bytes a second."""
        return self.size / max(self.seconds, 1e-6)


class Rates(Struct):
    """What was measured one way."""

    samples: list[Sample] = field(default_factory=list)
    bad: list[tuple[int, int]] = field(default_factory=list)
    """Offset and size in bytes of what could not be read or written, or came back different.

    Neighbours put together.
    """

    @property
    def typical(self) -> float:
        """Median rate in bytes a second; 0 when nothing was measured."""
        return median(sample.rate for sample in self.samples) if self.samples else 0.0

    @property
    def slowest(self) -> float:
        return min((sample.rate for sample in self.samples), default=0.0)

    @property
    def fastest(self) -> float:
        return max((sample.rate for sample in self.samples), default=0.0)

    def fails_at(self, offset: int, size: int) -> None:
        """Note a bad area."""
        if self.bad and sum(self.bad[-1]) == offset:
            self.bad[-1] = (self.bad[-1][0], self.bad[-1][1] + size)
        else:
            self.bad.append((offset, size))


def read_rates(medium: Medium, progress: Progress, *, whole: bool, buffer: memoryview) -> Rates:
    """Read samples over the length, or all of it. `buffer` holds a block. Raises DriveGone."""
    medium.forget_cache()
    rates = Rates()
    for offset, size in _stretches(medium.size, whole):
        view = buffer[:size]
        _measure(rates, offset, medium, view)
        progress("reading", offset + size, medium.size)
    return rates


def write_everything(medium: Medium, marker: Marker, progress: Progress, buffer: memoryview) -> Rates:
    """Fill the drive with marks, from the end of its last whole chunk on nothing. Everything on it is lost."""
    rates = Rates()
    whole = medium.size // CHUNK * CHUNK
    for offset, size in _stretches(whole, True):
        view = buffer[:size]
        marker.fill(offset, view)
        started = time.monotonic()
        try:
            medium.write_at(offset, view)
            medium.flush()
        except DriveGone:
            raise
        except DriveError:
            rates.fails_at(offset, size)
        else:
            rates.samples.append(Sample(offset, size, time.monotonic() - started))
        progress("writing", offset + size, whole)
    return rates


def read_marks(medium: Medium, marker: Marker, progress: Progress, buffer: memoryview) -> tuple[Rates, set[int]]:
    """Read every mark back; return rates and bad areas, and how far from their place other marks were found."""
    medium.forget_cache()
    rates, distances = Rates(), set[int]()
    whole = medium.size // CHUNK * CHUNK
    expected = memoryview(bytearray(BLOCK))
    for offset, size in _stretches(whole, True):
        view = buffer[:size]
        if _measure(rates, offset, medium, view):
            marker.fill(offset, expected[:size])
            if view != expected[:size]:
                _compare(rates, distances, marker, offset, view, expected)
        progress("reading back", offset + size, whole)
    return rates, distances


def _compare(
    rates: Rates, distances: set[int], marker: Marker, offset: int, view: memoryview, expected: memoryview
) -> None:
    for at in range(0, len(view), CHUNK):
        if view[at : at + CHUNK] == expected[at : at + CHUNK]:
            continue
        rates.fails_at(offset + at, CHUNK)
        address = marker.address_in(view[at : at + CHUNK])
        if address not in (None, offset + at) and len(distances) < _MOST_DISTANCES:
            distances.add(abs(offset + at - address))


def _measure(rates: Rates, offset: int, medium: Medium, view: memoryview) -> bool:
    """Time the reading of `view`. When it fails, find out how much of it does, chunk by chunk.

    Return whether it worked.
    """
    started = time.monotonic()
    try:
        medium.readinto_at(offset, view)
    except DriveGone:
        raise
    except DriveError:
        for at in range(0, len(view), CHUNK):
            _measure_chunk(rates, offset + at, medium, view[at : at + CHUNK])
        return False
    rates.samples.append(Sample(offset, len(view), time.monotonic() - started))
    return True


def _measure_chunk(rates: Rates, offset: int, medium: Medium, view: memoryview) -> None:
    try:
        medium.readinto_at(offset, view)
    except DriveGone:
        raise
    except DriveError:
        rates.fails_at(offset, len(view))


def _stretches(size: int, whole: bool) -> Iterator[tuple[int, int]]:
    """Yield (offset, size) of what is read.

    Everything block by block, or evenly spread samples of a block and the end.
    """
    blocks = -(-size // BLOCK)
    step = 1 if whole else max(blocks // _SAMPLES, 1)
    numbers = list(range(0, blocks, step))
    if numbers and numbers[-1] != blocks - 1:
        numbers.append(blocks - 1)
    for number in numbers:
        yield number * BLOCK, min(BLOCK, size - number * BLOCK)
