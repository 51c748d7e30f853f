"""Several drives in one pass: the source read once, every drive its own fate."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import pytest

from lucky_keystone.building.build import build
from lucky_keystone.building.feed import Feed, Overtaken
from lucky_keystone.building.several import Job, build_all
from lucky_keystone.common.errors import Interrupted
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import BLOCK, Zeros
from lucky_keystone.content.extents import Extent
from lucky_keystone.content.regions import RegionKind, region
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.drives.faults import Faults, FaultyDrive
from lucky_keystone.drives.medium import OpenMedium
from lucky_keystone.families.choices import Choices

from ..helpers.drives import IN_PARTS, MemoryDrive, small_disc, small_image

MIB = 1 << 20
LIMIT = 1200  # seconds; it only catches hanging


@pytest.fixture(scope="module")
def disc(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return small_disc(tmp_path_factory.mktemp("several") / "small.iso", filling=60)


@pytest.fixture
def bytes_read(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """Collects the size of every reading of a source's bytes while drives are streamed."""
    sizes: list[int] = []
    original = SourceFile.readinto_at

    def counted(self: SourceFile, descriptor: int, offset: int, view: memoryview) -> None:
        sizes.append(len(view))
        original(self, descriptor, offset, view)

    monkeypatch.setattr(SourceFile, "readinto_at", counted)
    return sizes


def jobs(
    disc: Path, *faults: Faults, size: int | None = None, choices: Choices = IN_PARTS
) -> tuple[list[Job], list[MemoryDrive]]:
    found, memories = [], []
    for number, fault in enumerate(faults):
        image = small_image(disc, name=f"DRV{number}", size=size, choices=choices)
        memory = MemoryDrive(image.size)
        medium: OpenMedium = memory if fault == Faults() else FaultyDrive(memory, fault)
        found.append(Job(name=f"DRV{number}", image=image, medium=medium))
        memories.append(memory)
    return found, memories


def alone(job: Job) -> bytes:
    memory = MemoryDrive(job.image.size)
    build(job.image, memory, silent)
    return bytes(memory.data)


def test_four_drives_read_the_source_once(disc: Path, bytes_read: list[int]) -> None:
    made, memories = jobs(disc, *[Faults()] * 4)
    bytes_read.clear()
    build_all(made)
    at_once = sum(bytes_read)
    bytes_read.clear()
    expected = [alone(job) for job in made]

    assert at_once <= sum(bytes_read) / 4 * 1.01
    assert [bytes(memory.data) for memory in memories] == expected
    assert len({data[440:444] for data in expected}) == 4, "disk signatures are alike"


@pytest.mark.parametrize("file_system", ["ntfs", "fat32+ntfs"])
def test_volumes_with_something_behind_their_files_are_the_same_as_alone(file_system: str, disc: Path) -> None:
    """Their manifests list hashes in the order of the drive, whoever read what."""
    made, memories = jobs(disc, Faults(), Faults(), choices=Choices(file_system=file_system))
    build_all(made)
    assert [bytes(memory.data) for memory in memories] == [alone(job) for job in made]


def test_one_that_fails_does_not_hurt_the_others(disc: Path) -> None:
    made, memories = jobs(disc, Faults(), Faults(vanishes_after=9 * MIB), Faults(), Faults(forgets=[(30 * MIB, 8)]))
    build_all(made)

    assert [job.error is None for job in made] == [True, False, True, False]
    assert [bytes(memories[n].data) == alone(made[n]) for n in (0, 2)] == [True, True]
    assert [any(memories[n].data[:512]) for n in (1, 3)] == [False, False]


def test_one_that_lags_goes_on_in_a_pass_of_its_own(disc: Path) -> None:
    """It takes nothing more until the others have ended: they do not wait for it, and it ends as well."""
    made, memories = jobs(disc, Faults(), Faults(), Faults())
    moved = 0.0

    def hold(seconds: float) -> None:
        nonlocal moved
        moved += seconds  # of a drive that takes a byte a second
        if moved > 8 * MIB:
            assert all(made[number].ended.wait(LIMIT) for number in (0, 2))

    made[1].medium = FaultyDrive(memories[1], Faults(bytes_per_second=1), wait=hold)
    build_all(made, patience=0.2)

    assert made[1].fell_back
    assert [job.error for job in made] == [None] * 3
    assert [bytes(memory.data) for memory in memories] == [alone(job) for job in made]


def test_only_who_alone_holds_up_the_others_is_overtaken() -> None:
    """By a simulated clock: time passes only while one follower keeps a block and both others wait for more."""
    patience, now = 85, 0.0
    content = Zeros(20 * BLOCK)
    feed = Feed([region(RegionKind.FILES, [Extent(0, content)])], 3, patience=patience, clock=lambda: now)
    taken = [0, 0, 0]

    def take(follower: int) -> None:
        for _ in feed.follow(follower):
            taken[follower] += 1

    slow = feed.follow(1)
    next(slow)
    others = [threading.Thread(target=take, args=(number,)) for number in (0, 2)]
    for thread in others:
        thread.start()
    while min(taken[0], taken[2]) < 6:  # as many buffers as there are
        time.sleep(0.01)
    while max(taken[0], taken[2]) == 6:
        now += 100  # one such jump, a tenth of it taken off for the length of the pass, is more than the patience
        time.sleep(0.1)
    for thread in others:
        thread.join(LIMIT)
    assert [taken[0], taken[2]] == [20, 20]
    with pytest.raises(Overtaken) as overtaken:
        next(slow)
    assert overtaken.value.number == 1


def test_drives_of_other_sizes_and_a_stop_by_the_user(disc: Path) -> None:
    """Drives with other clusters are written beside the rest; stopping stops all, and each can go on."""
    one, memories = jobs(disc, Faults())
    other, more = jobs(disc, Faults(), size=300 * MIB)
    build_all([*one, *other])
    assert [job.error for job in (*one, *other)] == [None, None]
    assert bytes(more[0].data) == alone(other[0])

    made, memories = jobs(disc, Faults(), Faults())

    def stop(stage: str, done: int, total: int) -> None:
        if done > 20 * MIB:
            raise Interrupted("Stopped before the end.")

    for job in made:
        job.progress = stop
    build_all(made)
    assert all(isinstance(job.error, Interrupted) and "not finished" in job.error.advice for job in made)
    for job, memory in zip(made, memories, strict=True):
        job.progress, job.error = silent, None
        assert not any(memory.data[:512])
    build_all(made)
    assert [bytes(memory.data) for memory in memories] == [alone(job) for job in made]
