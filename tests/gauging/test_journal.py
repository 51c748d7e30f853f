"""What marks overwrite comes back, wherever a run is cut off: by signals, by a crash, by a drive that fails."""

from __future__ import annotations

import random
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from lucky_keystone.common.errors import DriveError
from lucky_keystone.common.progress import silent
from lucky_keystone.drives.faults import Faults, FaultyDrive
from lucky_keystone.gauging.capacity import probe_capacity
from lucky_keystone.gauging.journal import FileJournal, put_back
from lucky_keystone.gauging.marks import Marker

from ..helpers.drives import MemoryDrive
from ..helpers.program import run, run_json

MIB = 1 << 20
SIZE = 24 * MIB


class Crash(BaseException):
    """The computer is gone: nothing after it happens."""


class Crashing(MemoryDrive):
    """Crashes at a write, which is torn, and at everything after it."""

    writes_left = 1 << 30

    def write_at(self, offset: int, data: memoryview) -> None:
        self.writes_left -= 1
        if self.writes_left == 0:
            super().write_at(offset, data[: len(data) // 1024 * 512])
        if self.writes_left <= 0:
            raise Crash
        super().write_at(offset, data)


def filled() -> Crashing:
    drive = Crashing(SIZE)
    drive.data[:] = random.Random(5).randbytes(SIZE)
    return drive


def test_a_crash_at_any_write_loses_nothing(tmp_path: Path) -> None:
    drive = filled()
    probe_capacity(drive, Marker(bytes(16)), silent)
    writes = (1 << 30) - drive.writes_left
    before = bytes(filled().data)
    assert writes > 60
    for cut in range(1, writes + 1, 7):
        drive, journal = filled(), FileJournal(tmp_path / f"{cut}.journal")
        drive.writes_left = cut
        with pytest.raises(Crash):
            probe_capacity(drive, Marker(bytes(range(16))), silent, journal=journal)
        drive.writes_left = 1 << 30
        kept = journal.read()
        assert kept is not None
        assert put_back(drive, *kept) == []
        assert drive.data == before, cut


def test_an_unreadable_sector_is_never_written_and_what_others_wrote_stays(tmp_path: Path) -> None:
    memory = filled()
    place = MIB + 8192  # in the marked region
    drive = FaultyDrive(memory, Faults(fails_reading=[(place, 512)]))
    memory.log.clear()
    probe_capacity(drive, Marker(bytes(16)), silent)
    assert not any(
        kind == "write" and offset < place + 4096 and place < offset + size for kind, offset, size in memory.log
    )
    assert memory.data == filled().data

    # Cut off, and then someone else writes there: that is kept, also within a marked chunk.
    memory, journal = filled(), FileJournal(tmp_path / "a.journal")
    memory.writes_left = 80
    with pytest.raises(Crash):
        probe_capacity(memory, Marker(bytes(16)), silent, journal=journal)
    memory.writes_left = 1 << 30
    memory.data[MIB + 512 : MIB + 1024] = b"n" * 512
    kept = journal.read()
    assert kept is not None
    assert put_back(memory, *kept) == []
    expected = filled().data
    expected[MIB + 512 : MIB + 1024] = b"n" * 512
    assert memory.data == expected


def test_what_cannot_be_put_back_is_said_with_the_journals_place(tmp_path: Path) -> None:
    memory, journal = filled(), FileJournal(tmp_path / "b.journal")
    drive = FaultyDrive(memory, Faults(vanishes_after=450 << 10))
    with pytest.raises(DriveError, match=f"could not be put back at .* is kept in {re.escape(str(journal.path))}"):
        probe_capacity(drive, Marker(bytes(16)), silent, journal=journal)
    kept = journal.read()
    assert kept is not None
    assert put_back(memory, *kept) == []
    assert memory.data == filled().data


def catches(child: subprocess.Popen[bytes], number: signal.Signals) -> bool:
    """Tell whether a process has a handler for a signal (proc(5), SigCgt)."""
    try:
        status = Path(f"/proc/{child.pid}/status").read_text()
    except OSError:
        return False
    caught = next((line.split()[1] for line in status.splitlines() if line.startswith("SigCgt")), "0")
    return bool(int(caught, 16) >> number - 1 & 1)


@pytest.mark.skipif(sys.platform != "linux", reason="no /proc tells which signals are caught")
@pytest.mark.parametrize("name", ["SIGTERM", "SIGHUP", "SIGINT", "SIGKILL"])
def test_signals_at_any_moment(name: str, tmp_path: Path) -> None:
    """All but SIGKILL put everything back before the program ends, also when they come twice."""
    number = signal.Signals[name]
    drive = tmp_path / "stick.img"
    before = random.Random(6).randbytes(64 * MIB)
    chance = random.Random(number)
    command = [sys.executable, "-m", "lucky_keystone", "gauge", str(drive), "--marks", "--yes", "--json"]
    for _ in range(4):
        drive.write_bytes(before)
        child = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        while not catches(child, signal.SIGTERM) and child.poll() is None:
            time.sleep(0.005)  # Python itself is still being loaded: nothing has been opened yet
        time.sleep(chance.random() * 0.6)
        child.send_signal(number)
        time.sleep(0.02)
        child.send_signal(number)
        _, complaint = child.communicate(timeout=1200)
        assert b"Traceback" not in complaint
        if number == signal.SIGKILL:
            run("gauge", drive, "--restore", "--yes")
        assert drive.read_bytes() == before
        assert run_json("gauge", drive, "--restore", "--yes")["places_restored"] == 0
