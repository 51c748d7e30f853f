"""Fakes of every kind are unmasked, honest drives are not accused, and reading changes nothing."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from lucky_keystone.common.progress import silent
from lucky_keystone.drives.faults import Faults, FaultyDrive
from lucky_keystone.drives.retrying import Retrying
from lucky_keystone.gauging.figure import draw_gauged
from lucky_keystone.gauging.gauge import Gauged, Mode, gauge

from ..helpers.drives import MemoryDrive

MIB = 1 << 20
SIZE = 96 * MIB


def gauged(faults: Faults, mode: Mode, *, filled: bool = True, whole: bool = False) -> tuple[Gauged, bytes, bytes]:
    """Gauge a drive with faults; return the result and what the medium below held before and after."""
    memory = MemoryDrive(SIZE)
    if filled:
        memory.data[:] = random.Random(1).randbytes(SIZE)
    before = bytes(memory.data)
    drive = FaultyDrive(memory, faults, wait=lambda _: None)
    return gauge(Retrying(drive, pauses=(0,), most=1 << 30), silent, mode, whole=whole), before, bytes(memory.data)


FAKES = [
    (Faults(real_size=real, beyond=beyond, remembers=remembers), verdict)
    for real in (32 * MIB, 37 * MIB + 4096, 48 * MIB)
    for beyond, verdict in (
        ("repeats", "repeats"),
        ("lost", "loses"),
        ("ones", "loses"),
        ("noise", "loses"),
        ("fails", "ends"),
    )
    for remembers in (0, 512 << 10)
]


@pytest.mark.parametrize("mode", ["marks", "erase"])
@pytest.mark.parametrize(
    ("faults", "verdict"),
    FAKES,
    ids=lambda value: f"{value.beyond}-{value.real_size}" if isinstance(value, Faults) else "",
)
def test_every_fake_is_found_by_writing(faults: Faults, verdict: str, mode: Mode) -> None:
    if mode == "marks" and faults.remembers:
        faults = Faults(
            real_size=faults.real_size, beyond=faults.beyond, remembers=32 << 10
        )  # less than the marked region
    found, before, after = gauged(faults, mode)

    assert (found.capacity.verdict, found.healthy) == (verdict, False)
    assert found.capacity.real_size is not None
    assert abs(found.capacity.real_size - faults.real_size) <= 8192
    assert f"{SIZE:,} bytes" in found.capacity.summary
    if mode == "marks":
        assert after == before, "what the marks overwrote was not put back"


@pytest.mark.parametrize("mode", ["read", "marks", "erase"])
@pytest.mark.parametrize("faults", [Faults(), Faults(volatile_cache=4 * MIB), Faults(bytes_per_second=10 * MIB)])
@pytest.mark.parametrize("filled", [True, False])
def test_an_honest_drive_is_not_accused(faults: Faults, mode: Mode, filled: bool) -> None:
    found, before, after = gauged(faults, mode, filled=filled)

    assert found.healthy
    assert found.capacity.verdict == ("not known" if mode == "read" else "holds")
    if mode != "erase":
        assert after == before


def test_reading_alone_writes_nothing_and_unmasks_a_repetition() -> None:
    for real in (32 * MIB, 37 * MIB + 4096):
        found, before, after = gauged(Faults(real_size=real, beyond="repeats"), "read")
        assert (found.capacity.verdict, found.capacity.real_size) == ("repeats", real)
        assert after == before


def test_copies_of_a_file_are_no_repetition() -> None:
    memory = MemoryDrive(SIZE)
    memory.data[MIB : 40 * MIB] = random.Random(2).randbytes(39 * MIB)
    memory.data[50 * MIB : 51 * MIB] = memory.data[MIB : 2 * MIB]  # the marked region's first 64 KiB among it
    memory.data[50 * MIB : 50 * MIB + 8192] = random.Random(3).randbytes(8192)

    assert gauge(memory, silent).capacity.verdict == "not known"


def test_bad_areas_are_found_where_they_are(tmp_path: Path) -> None:
    places = [(10 * MIB, 4096), (50 * MIB + 8192, 64 << 10)]
    found, before, after = gauged(Faults(fails_reading=places), "read", whole=True)
    assert (found.reading.bad, found.healthy, after) == (places, False, before)
    for place in (20 * MIB, 20 * MIB + 3000):  # in the mark's head, and behind it
        found, _, _ = gauged(Faults(forgets=[(place, 1)]), "erase")
        assert found.reading.bad == [(20 * MIB, 4096)]
        assert "it is failing" in found.capacity.summary
    for name in ("stick.png", "stick.svg"):
        draw_gauged(found, "T3ST", tmp_path / name)
        assert (tmp_path / name).stat().st_size > 5000


def test_a_gauge_of_passing_failures_and_other_runs_marks(tmp_path: Path) -> None:
    """A failure that passes is tried again; marks of an earlier run are not taken for this one's."""
    memory = MemoryDrive(SIZE)
    for _ in range(2):
        drive = FaultyDrive(memory, Faults(fails_reading=[(30 * MIB, 4096)], failures=1))
        found = gauge(Retrying(drive, pauses=(0,)), silent, "erase")
        assert found.healthy
