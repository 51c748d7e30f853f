"""Faults on purpose: a simulated drive that is slow, short, fake, failing, vanishing, or has a cache that loses data.

A bay's description gives a drive its faults (docs/formats.md); tests and training use them.
"""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Callable, Iterator
from typing import Annotated, Literal

import msgspec

from ..common.errors import DriveError, DriveGone, Transient
from .medium import OpenMedium

_SECTOR = 512

Bytes = Annotated[int, msgspec.Meta(ge=0, le=(1 << 63) - 1)]


class Faults(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What is wrong with a simulated drive. All sizes and offsets in bytes."""

    bytes_per_second: Bytes = 0
    """Writing and reading are no faster; 0: as fast as the disk below."""
    real_size: Bytes = 0
    """What it truly holds; 0: what it says."""
    beyond: Literal["repeats", "lost", "ones", "noise", "fails"] = "fails"
    """Beyond its real size: address space repeats; writes are lost and zeros, ones or noise are read; or it fails."""
    remembers: Bytes = 0
    """A fake's trick: this many of the bytes written last are read back correctly, wherever they were written."""
    fails_reading: list[tuple[Bytes, Bytes]] = []
    """Places (offset, size) that cannot be read."""
    fails_writing: list[tuple[Bytes, Bytes]] = []
    """Places (offset, size) that cannot be written."""
    failures: Bytes = 0
    """How often a failing place fails before it works; 0: always."""
    forgets: list[tuple[Bytes, Bytes]] = []
    """Places (offset, size) that take data and keep something else."""
    vanishes_after: Bytes = 0
    """It vanishes after this many bytes were read and written; 0: never."""
    volatile_cache: Bytes = 0
    """Size of a cache that is lost, torn and written out of order when the power is cut."""
    lies_when_flushing: bool = False
    """A flush leaves the volatile cache as it is."""


class FaultyDrive:
    """A medium with faults over a faultless one. Whatever happens is decided by `seed`."""

    def __init__(
        self,
        medium: OpenMedium,
        faults: Faults,
        *,
        name: str = "The simulated drive",
        seed: int = 0,
        wait: Callable[[float], None] = time.sleep,
    ) -> None:
        self.medium, self.faults, self.name, self.size = medium, faults, name, medium.size
        self.operations = 0
        """Writes and flushes so far."""
        self.cut_at = -1
        """The operation during which the power is cut; -1: never."""
        self._chance = random.Random(seed)  # noqa: S311 - faults, not secrets
        self._wait = wait
        self._moved = 0
        self._gone = False
        self._failed: dict[tuple[int, int], int] = {}
        self._cache: list[tuple[int, bytes]] = []
        self._recent: list[tuple[int, bytes]] = []
        self._lock = threading.RLock()  # one flusher beside one writer

    # -- the medium's side ---------------------------------------------------------------------------------------

    def write_at(self, offset: int, data: memoryview) -> None:
        with self._lock:
            self._operation(offset, bytes(data))
            self._move(len(data))
            self._fail(offset, len(data), self.faults.fails_writing, "writing")
            self._remember(offset, data)
            for at, piece in self._kept(offset, data):
                self._take(at, piece)

    def write_zeros(self, offset: int, size: int) -> None:
        step = 1 << 20
        if not self._is_plain():
            for at in range(offset, offset + size, step):
                self.write_at(at, memoryview(bytes(min(step, offset + size - at))))
            return
        with self._lock:
            self._operation(offset, b"")
            self._move(size)
            self.medium.write_zeros(offset, size)

    def readinto_at(self, offset: int, view: memoryview) -> None:
        with self._lock:
            self._present()
            self._move(len(view))
            self._fail(offset, len(view), self.faults.fails_reading, "reading")
            self._fill(offset, view)
            for at, data in self._recent:
                _overlay(view, offset, at, data)

    def read_at(self, offset: int, size: int) -> bytes:
        buffer = bytearray(size)
        self.readinto_at(offset, memoryview(buffer))
        return bytes(buffer)

    def flush(self) -> None:
        with self._lock:
            self._operation(0, b"")
            if self.faults.lies_when_flushing:
                return
            for at, data in self._cache:
                self.medium.write_at(at, memoryview(data))
            self._cache.clear()
            self.medium.flush()

    def forget_cache(self) -> None:
        self.medium.forget_cache()

    def close(self) -> None:
        """Close; a drive that is unplugged in peace writes its cache first."""
        if not self._gone:
            for at, data in self._cache:
                self.medium.write_at(at, memoryview(data))
        self.medium.close()

    # -- faults --------------------------------------------------------------------------------------------------

    def _is_plain(self) -> bool:
        """True when zeros may be left to the medium below, which can leave them out."""
        quiet = Faults(failures=self.faults.failures, bytes_per_second=self.faults.bytes_per_second)
        return self.faults == quiet and self.cut_at < 0

    def _present(self) -> None:
        if self._gone:
            raise DriveGone(f"{self.name} was disconnected.", advice="Plug it in again.")

    def _operation(self, offset: int, data: bytes) -> None:
        self._present()
        if self.operations == self.cut_at:
            self._cache.append((offset, data))
            self.cut_power()
            self._present()
        self.operations += 1

    def cut_power(self) -> None:
        """Lose the cache as a drive does: in any order, each write is kept, torn or lost."""
        waiting = [item for item in self._cache if item[1]]
        self._chance.shuffle(waiting)
        for at, data in waiting:
            fate = self._chance.random()
            if fate < 0.4:
                continue
            sectors = len(data) // _SECTOR
            end = len(data) if fate > 0.7 else self._chance.randrange(sectors + 1) * _SECTOR
            if end:
                self.medium.write_at(at, memoryview(data)[:end])
        self._cache.clear()
        self._gone = True

    def _move(self, size: int) -> None:
        self._moved += size
        if self.faults.bytes_per_second:
            self._wait(size / self.faults.bytes_per_second)
        if self.faults.vanishes_after and self._moved > self.faults.vanishes_after:
            self.cut_power()
            self._present()

    def _fail(self, offset: int, size: int, places: list[tuple[int, int]], doing: str) -> None:
        real = self.faults.real_size
        if real and self.faults.beyond == "fails" and offset + size > real:
            raise DriveError(
                f"{self.name}, {doing} at byte {max(offset, real)}: there is nothing.", advice="Use another drive."
            )
        for place in places:
            if not (offset < place[0] + place[1] and place[0] < offset + size):
                continue
            self._failed[place] = self._failed.get(place, 0) + 1
            if not self.faults.failures or self._failed[place] <= self.faults.failures:
                raise Transient(
                    f"{self.name}, {doing} at byte {max(offset, place[0])}: input/output error.",
                    advice="Use another drive.",
                )

    def _kept(self, offset: int, data: memoryview) -> Iterator[tuple[int, bytes]]:
        """Yield what the medium really takes of a write, and where."""
        kept = bytearray(data)
        for start, size in self.faults.forgets:
            first, end = max(start - offset, 0), min(start + size - offset, len(kept))
            for at in range(first, end):
                kept[at] ^= 0x5A
        real = self.faults.real_size or self.size
        at = 0
        while at < len(kept):
            place = offset + at
            count = min(len(kept) - at, real - place % real)
            if place < real or self.faults.beyond == "repeats":
                yield place % real, bytes(kept[at : at + count])
            at += count

    def _take(self, offset: int, data: bytes) -> None:
        if not self.faults.volatile_cache:
            self.medium.write_at(offset, memoryview(data))
            return
        self._cache.append((offset, data))
        while sum(len(piece) for _, piece in self._cache) > self.faults.volatile_cache:
            # Writes overtake each other, but not at one place: there a drive keeps their order.
            at, piece = self._cache.pop(self._first_free())
            self.medium.write_at(at, memoryview(piece))

    def _first_free(self) -> int:
        """Return the index of a cached write that may go out now."""

        def overtakes(index: int) -> bool:
            at, data = self._cache[index]
            return any(other < at + len(data) and at < other + len(piece) for other, piece in self._cache[:index])

        return self._chance.choice([index for index in range(len(self._cache)) if not overtakes(index)])

    def _fill(self, offset: int, view: memoryview) -> None:
        real = self.faults.real_size or self.size
        done = 0
        while done < len(view):
            place = offset + done
            count = min(len(view) - done, real - place % real)
            piece = view[done : done + count]
            if place < real or self.faults.beyond == "repeats":
                self.medium.readinto_at(place % real, piece)
                for at, data in self._cache:
                    _overlay(piece, place % real, at, data)
            elif self.faults.beyond == "noise":
                piece[:] = random.Random(place).randbytes(count)  # noqa: S311
            else:
                piece[:] = (b"\xff" if self.faults.beyond == "ones" else b"\0") * count
            done += count

    def _remember(self, offset: int, data: memoryview) -> None:
        if not self.faults.remembers:
            return
        self._recent.append((offset, bytes(data)))
        while sum(len(piece) for _, piece in self._recent) > self.faults.remembers:
            self._recent.pop(0)


def _overlay(view: memoryview, offset: int, at: int, data: bytes) -> None:
    """Lay `data`, which belongs at byte `at`, over `view`, which was read from `offset`."""
    first, end = max(at, offset), min(at + len(data), offset + len(view))
    if first < end:
        view[first - offset : end - offset] = data[first - at : end - at]
