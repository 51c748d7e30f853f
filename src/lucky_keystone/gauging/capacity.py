"""What a drive really holds.

Fakes say they are larger than they are: their addresses repeat, or they drop what is beyond.

Reading alone can prove a repetition where the drive is not blank. Writing marks proves the rest:

- a region at the front is filled with marks, and one chunk is read in every region's length behind it. When addresses
  repeat, one of these reads falls into the marked region, and the mark it finds tells the distance exactly;
- single marks over the whole length are read back: where they are lost, the drive ends. They are written before the
  region, which by then has pushed them out of any cache that would answer for them.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import Literal

from msgspec import Struct

from ..common.errors import DriveError, DriveGone
from ..common.interrupts import HeldInterrupts
from ..common.progress import Progress
from ..content.extents import MIB
from ..drives.medium import Medium
from .journal import Entry, MarksJournal, NoJournal, put_back, refuse_lost
from .marks import CHUNK, Marker

_NO_JOURNAL = NoJournal()
_LARGEST_REGION = 64 * MIB
_FRONT = MIB  # what lies before is a table, and is left alone
_SAMPLES = 48

Verdict = Literal["holds", "repeats", "loses", "ends", "not known"]


class Capacity(Struct, frozen=True):
    """What was found. Sizes in bytes."""

    verdict: Verdict
    """It holds what it claims; its addresses repeat; it loses what is beyond; it fails beyond.

    Or nothing could be found out.
    """
    claimed: int
    real_size: int | None
    """What it holds, as near as it was found; None when not known."""
    summary: str
    """One sentence for a technician."""

    @property
    def is_fake(self) -> bool:
        return self.verdict in ("repeats", "loses", "ends")


def look_for_repetition(medium: Medium, progress: Progress) -> Capacity:
    """Judge from what is on the drive already, without writing."""
    region = _region_size(medium.size)
    known = _distinct_chunks(medium, region)
    if not known:
        return Capacity(
            "not known",
            medium.size,
            None,
            "The drive is blank where it was sampled: only writing can show what it holds.",
        )
    for place in _beyond(medium.size, region, progress):
        found = known.get(_read(medium, place, CHUNK) or b"")
        if found is not None and _all_alike(medium, place - found, known):
            return _repeats(medium.size, place - found)
    return Capacity(
        "not known",
        medium.size,
        None,
        "No repetition was found by reading; only writing can show what it really holds.",
    )


def probe_capacity(
    medium: Medium,
    marker: Marker,
    progress: Progress,
    *,
    written_below: int | None = None,
    journal: MarksJournal = _NO_JOURNAL,
) -> Capacity:
    """Judge by writing marks. Afterwards everything is as it was before, if the drive is honest.

    What is overwritten goes into `journal` first, and signals wait meanwhile: nothing stops this while marks are on the
    drive. When the drive is going to be written anyway up to byte `written_below`, nothing is put back: marks beyond
    are made zero, those before are left to be written over. Raises DriveGone when the drive vanishes meanwhile,
    Interrupted, and DriveError where something could not be put back.
    """
    region = _region_size(medium.size)
    places = _sample_places(medium.size, region)
    with HeldInterrupts() as interrupts:

        def hear(stage: str, done: int, total: int) -> None:
            interrupts.check()
            progress(stage, done, total)

        marked = _Marked(medium, marker, region, written_below, journal, interrupts)
        try:
            bad = marked.bad_places(places)
            period = marked.period(hear)
            return _repeats(medium.size, period) if period is not None else _judge(marked, places, bad)
        finally:
            marked.clean_up()


# -- by writing ------------------------------------------------------------------------------------------------------


class _Marked:
    """A drive that marks are written to, and what they overwrote."""

    def __init__(
        self,
        medium: Medium,
        marker: Marker,
        region: int,
        written_below: int | None,
        journal: MarksJournal,
        interrupts: HeldInterrupts,
    ) -> None:
        self.medium, self.region = medium, region
        self._marker, self._written_below = marker, written_below
        self._journal, self._interrupts = journal, interrupts
        self._before: dict[int, bytes] = {}
        """What was at each place that is written, in the order of first writing; nothing else is written."""

    def bad_places(self, places: list[int]) -> dict[int, str]:
        """Mark `places`, then the region; return the places that do not hold their mark: 'lost' or 'fails'."""
        bad: dict[int, str] = {}
        end = _FRONT + self.region
        pieces = [(at, min(MIB, end - at)) for at in range(_FRONT, end, MIB)]
        # All of it before anything is written: on a fake two places may be one.
        self._keep([*((place, CHUNK) for place in places), *pieces])
        for place in places:
            self._interrupts.check()
            if place not in self._before or not _write(self.medium, place, self._marker.made(place, CHUNK)):
                bad[place] = "fails"
        for at, old in list(self._before.items()):
            if _FRONT <= at < end:
                self._interrupts.check()
                _write(self.medium, at, self._marker.made(at, len(old)))
        self.medium.flush()
        self.medium.forget_cache()
        for place in places:
            data = _read(self.medium, place, CHUNK)
            if place not in bad and data != self._marker.made(place, CHUNK):
                bad[place] = "fails" if data is None else "lost"
        return bad

    def period(self, progress: Progress) -> int | None:
        """Return the distance at which addresses repeat, None when they do not."""
        for place in _beyond(self.medium.size, self.region, progress):
            address = self._marker.address_in(_read(self.medium, place, CHUNK) or b"")
            if address is not None and address != place and _FRONT <= address < _FRONT + self.region:
                return place - address
        return None

    def _keep(self, stretches: Sequence[tuple[int, int]]) -> None:
        """Read what is about to be overwritten and have it kept; what cannot be read is never written."""
        new: list[Entry] = []
        for place, size in stretches:
            if place in self._before:
                continue
            self._interrupts.check()
            if self._written_below is not None:
                new.append((place, bytes(size)))
            elif (old := _read(self.medium, place, size)) is not None:
                new.append((place, old))
            else:
                chunks = [(at, _read(self.medium, at, CHUNK)) for at in range(place, place + size, CHUNK)]
                new += [(at, old) for at, old in chunks if old is not None]
        if self._written_below is None:
            self._journal.keep(self._marker.nonce, [entry for entry in new if entry[0] not in self._before])
        for place, old in new:
            self._before.setdefault(place, old)

    def clean_up(self) -> None:
        """Write what was there before, the last overwritten first; or zeros where nothing else will be written.

        Raises DriveError where something could not be put back.
        """
        if self._written_below is None:
            failed = put_back(self.medium, self._marker, list(self._before.items()))
            refuse_lost(failed, self._journal)
            self._journal.clear()
            return
        end = max(self._written_below, _FRONT)
        for place, old in reversed(self._before.items()):
            if place + len(old) > end:
                at = max(place, end)
                _write(self.medium, at, bytes(place + len(old) - at))
        self.medium.flush()


def _judge(marked: _Marked, places: list[int], bad: dict[int, str]) -> Capacity:
    size = marked.medium.size
    if not bad:
        return Capacity("holds", size, size, "It holds what it claims.")
    first = min(bad)
    if any(place > first and place not in bad for place in places):
        return Capacity(
            "not known",
            size,
            None,
            f"{len(bad)} of {len(places)} places do not keep what is written, "
            f"the first at byte {first:,}: it is failing.",
        )
    last_good = max([_FRONT + marked.region, *(place + CHUNK for place in places if place < first)])
    end = _narrowed(marked, last_good, first)
    if set(bad.values()) == {"fails"}:
        return Capacity("ends", size, end, f"It claims to hold {size:,} bytes, but fails from byte {end:,} on.")
    return Capacity(
        "loses", size, end, f"It claims to hold {size:,} bytes, but loses what is written from byte {end:,} on."
    )


def _narrowed(marked: _Marked, good: int, bad: int) -> int:
    """Return where the drive ends, to a chunk: `good` is held, the chunk at `bad` is not."""
    while bad - good > CHUNK:
        step = max((bad - good) // 32 // CHUNK * CHUNK, CHUNK)
        places = list(range(good // CHUNK * CHUNK, bad, step))[:64]
        lost = marked.bad_places(places)
        held = [place for place in places if place not in lost]
        new_bad = min(lost, default=bad)
        new_good = max([good, *(place + CHUNK for place in held if place < new_bad)])
        if (new_good, new_bad) == (good, bad):
            break
        good, bad = new_good, min(new_bad, bad)
    return good


# -- by reading ------------------------------------------------------------------------------------------------------


def _distinct_chunks(medium: Medium, region: int) -> dict[bytes, int]:
    """Return the region's chunks that say something, each with its byte; those that occur twice are left out."""
    found: dict[bytes, int] = {}
    twice: set[bytes] = set()
    for at in range(_FRONT, _FRONT + region, MIB):
        data = _read(medium, at, min(MIB, _FRONT + region - at)) or b""
        for start in range(0, len(data), CHUNK):
            chunk = data[start : start + CHUNK]
            if len(set(chunk[:64])) < 8:  # zeros, ones, and tables that look alike everywhere
                continue
            if chunk in found:
                twice.add(chunk)
            found[chunk] = at + start
    return {chunk: at for chunk, at in found.items() if chunk not in twice}


def _all_alike(medium: Medium, distance: int, known: dict[bytes, int]) -> bool:
    """True when a good many chunks appear again at `distance`: one may be a file's copy, all of them are not."""
    chosen = list(known.items())
    chosen = chosen[:: max(len(chosen) // 16, 1)][:16]
    return len(chosen) >= 4 and all(_read(medium, at + distance, CHUNK) == chunk for chunk, at in chosen)


# -- both ------------------------------------------------------------------------------------------------------------


def _region_size(size: int) -> int:
    """Bytes of the marked region: small beside the drive, and large enough that few reads look through all of it."""
    return max(min(size // 1024, _LARGEST_REGION) // CHUNK * CHUNK, 16 * CHUNK)


def _beyond(size: int, region: int, progress: Progress) -> Iterator[int]:
    """Yield a place in every stretch as long as the region, behind it up to the drive's end."""
    step = region - CHUNK
    for place in range(_FRONT + region, size - CHUNK + 1, step):
        progress("looking for repetition", place, size)
        yield place // CHUNK * CHUNK
    progress("looking for repetition", size, size)


def _sample_places(size: int, region: int) -> list[int]:
    """Return places over the length: evenly, at the powers of two that real sizes often are, and at the very end."""
    start, end = _FRONT + region, size - CHUNK
    places = {start + (end - start) * number // _SAMPLES for number in range(1, _SAMPLES)}
    power = 1 << 22
    while power < size:
        places |= {power, power * 3 // 2}
        power *= 2
    aligned = {place // CHUNK * CHUNK for place in places} | {end // CHUNK * CHUNK}
    return sorted(place for place in aligned if start <= place <= end)


def _repeats(size: int, period: int) -> Capacity:
    return Capacity(
        "repeats", size, period, f"It claims to hold {size:,} bytes, but its addresses repeat every {period:,} bytes."
    )


def _read(medium: Medium, offset: int, size: int) -> bytes | None:
    with suppress(DriveError):
        return medium.read_at(offset, size)
    return None


def _write(medium: Medium, offset: int, data: bytes) -> bool:
    try:
        medium.write_at(offset, memoryview(data))
    except DriveGone:
        raise
    except DriveError:
        return False
    return True
