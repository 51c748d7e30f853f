"""Mending: hand-made drives start again, keep every file and come back to the byte; one cut off harms nothing."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest

from lucky_keystone.common.errors import DriveError, ProtectError
from lucky_keystone.common.progress import silent
from lucky_keystone.drives.medium import Medium
from lucky_keystone.mending.carry_out import write_steps
from lucky_keystone.mending.journal import JournalText, MendJournal, pending, put_back
from lucky_keystone.mending.make import Mending, make_mending
from lucky_keystone.mending.remedy import Wishes
from lucky_keystone.mending.steps import make_steps
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source

from ..helpers.amount import ALL
from ..helpers.drives import MemoryDrive
from ..helpers.hand_made import CASES, START, HandMade
from ..helpers.judges import read_by_others

TEXT = JournalText("a drive", "T3ST", "2026-11-29T08:00:00Z", [])
CAUSES = {name: case for name, case in CASES.items() if case.mended}


@pytest.fixture(scope="module")
def source(files: Path) -> Source:
    return open_source(files)


def mending_of(drive: MemoryDrive, case: HandMade, source: Source) -> Mending:
    return make_mending(drive, 512, silent, wishes=Wishes(source=source if case.needs_source else None))


def mend(drive: Medium, mending: Mending, journal: Path) -> None:
    write_steps(make_steps(drive, mending.changes, 512), drive, journal, TEXT, 512, silent)


def kept(before: dict[str, bytes], after: dict[str, bytes], mending: Mending) -> bool:
    """Everything that another reader could read is there, but for what is replaced on purpose."""
    replaced = {path for remedy in mending.remedies for _, path in remedy.replaces}
    return all(after.get(path) == data for path, data in before.items() if path.upper() not in replaced)


@pytest.mark.parametrize("name", CASES)
def test_a_drive_is_mended_and_brought_back(
    name: str, drives: dict[str, bytes], files: Path, source: Source, tmp_path: Path
) -> None:
    case = CASES[name]
    drive = case.drive(drives, files)
    broken, theirs = bytes(drive.data), read_by_others(drive, START)
    mending = mending_of(drive, case, source)
    assert sorted(remedy.code for remedy in mending.remedies) == sorted(case.mended)
    assert sorted(left.code for left in mending.left) == sorted(case.left)
    assert bytes(drive.data) == broken  # deciding writes nothing
    journal = tmp_path / "one.mend"
    mend(drive, mending, journal)
    assert kept(theirs, read_by_others(drive, START), mending)
    again = mending_of(drive, case, source)
    assert again.remedies == ()
    assert again.after.report.starts == mending.after.report.starts

    put_back(MendJournal(journal), drive, silent)
    assert bytes(drive.data) == broken
    assert MendJournal(journal).state == "undone"


@dataclass
class FailsOnce:
    """A drive of which one read fails, and none after it."""

    drive: MemoryDrive
    at: int
    size: int = 0
    reads: int = 0

    def __post_init__(self) -> None:
        self.size = self.drive.size

    def read_at(self, offset: int, size: int) -> bytes:
        self.reads += 1
        if self.reads == self.at:
            raise DriveError("A read failed.")
        return self.drive.read_at(offset, size)


@pytest.mark.parametrize("name", sorted(CAUSES))
def test_a_read_that_fails_once_changes_nothing_of_what_is_mended(
    name: str, drives: dict[str, bytes], files: Path, source: Source
) -> None:
    case = CAUSES[name]
    drive = case.drive(drives, files)
    wishes = Wishes(source=source if case.needs_source else None)
    counting = FailsOnce(drive, 0)
    expected = _written(drive, make_mending(counting, 512, silent, wishes=wishes))
    chance = random.Random(name)
    for at in chance.sample(range(1, counting.reads + 1), counting.reads if ALL else 3):
        found = make_mending(FailsOnce(drive, at), 512, silent, wishes=wishes)
        assert _written(drive, found) == expected, at


def _written(drive: MemoryDrive, mending: Mending) -> list[tuple[int, bytes]]:
    return [piece for step in make_steps(drive, mending.changes, 512) for piece in step.pieces()]


@dataclass
class Cut:
    """A drive that takes so many sectors, a part of a write too, and is then gone."""

    drive: MemoryDrive
    sectors: int
    size: int = 0

    def __post_init__(self) -> None:
        self.size = self.drive.size
        self.read_at, self.readinto_at = self.drive.read_at, self.drive.readinto_at
        self.flush, self.forget_cache = self.drive.flush, self.drive.forget_cache
        self.write_zeros: Callable[[int, int], None] = self.drive.write_zeros

    def write_at(self, offset: int, data: memoryview) -> None:
        room = self.sectors * 512
        self.sectors -= min(len(data) // 512, self.sectors)
        self.drive.write_at(offset, data[:room])
        if room < len(data):
            raise DriveError("It was pulled out.")


@pytest.mark.parametrize("name", CAUSES)
def test_a_mending_that_is_cut_off_leaves_no_less_and_is_put_back(
    name: str, drives: dict[str, bytes], files: Path, source: Source, tmp_path: Path
) -> None:
    case = CAUSES[name]
    drive = case.drive(drives, files)
    broken = bytes(drive.data)
    mending = mending_of(drive, case, source)
    sectors = sum(step.size for step in make_steps(drive, mending.changes, 512)) // 512
    theirs = read_by_others(drive, START)
    before = mending.before.report.starts
    for taken in {1, 2, sectors // 2, sectors - 2, sectors - 1} & set(range(sectors)):
        drive.data[:] = broken
        with pytest.raises(DriveError):
            mend(Cut(drive, taken), mending, tmp_path / f"{taken}-cut.mend")
        assert kept(theirs, read_by_others(drive, START), mending)
        now = make_mending(drive, 512, silent).before.report
        assert [
            row for row, then in zip(now.starts, before, strict=False) if then.verdict == "starts" != row.verdict
        ] == []
        (journal,) = pending(tmp_path, f"{taken}-")
        put_back(journal, drive, silent)
        assert bytes(drive.data) == broken


def test_of_two_mendings_the_later_one_is_undone_first(
    drives: dict[str, bytes], files: Path, source: Source, tmp_path: Path
) -> None:
    case = CASES["no MBR code"]
    drive = case.drive(drives, files)
    broken = bytes(drive.data)
    mend(drive, mending_of(drive, case, source), tmp_path / "one.mend")
    drive.data[440:444] = bytes(4)
    mend(drive, mending_of(drive, case, source), tmp_path / "two.mend")
    first, second = (MendJournal(tmp_path / f"{name}.mend") for name in ("one", "two"))
    with pytest.raises(ProtectError, match="something else has changed"):
        put_back(first, drive, silent)
    put_back(second, drive, silent)
    drive.data[440:444] = broken[440:444]
    put_back(first, drive, silent)
    assert bytes(drive.data) == broken


def test_a_journal_goes_with_its_drive_alone(
    drives: dict[str, bytes], files: Path, source: Source, tmp_path: Path
) -> None:
    case = CASES["hidden sectors"]
    drive = case.drive(drives, files)
    mend(drive, mending_of(drive, case, source), tmp_path / "one.mend")
    other = MemoryDrive(drive.size + 512)
    with pytest.raises(ProtectError, match="belongs to a drive of"):
        put_back(MendJournal(tmp_path / "one.mend"), other, silent)
    strange = CASES["NTFS, no active mark"].drive(drives, files)
    with pytest.raises(ProtectError, match="something else has changed"):
        put_back(MendJournal(tmp_path / "one.mend"), strange, silent)


def test_a_mending_that_was_complete_is_not_put_back(
    drives: dict[str, bytes], files: Path, source: Source, tmp_path: Path
) -> None:
    """Its end could not be noted, or not whole: the drive is as it was to be, and the journal is still good."""
    drive = CASES["no active mark"].drive(drives, files)
    before = bytes(drive.data)
    path = tmp_path / "one.mend"
    mend(drive, mending_of(drive, CASES["no active mark"], source), path)
    after, whole = bytes(drive.data), path.read_bytes()
    for noted in (whole[:-32], whole[:-11]):
        path.write_bytes(noted)
        (journal,) = pending(tmp_path, "")
        assert journal.is_complete(drive)
        journal.mark("written")
        assert path.read_bytes() == whole
    path.write_bytes(whole[:-32])
    drive.data[446:450] = before[446:450]
    assert not MendJournal(path).is_complete(drive)
    put_back(MendJournal(path), drive, silent)
    assert bytes(drive.data) == before != after
