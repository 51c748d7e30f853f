"""Several drives in one pass: the source read once, every drive its own fate."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from lucky_keystone.building.build import build
from lucky_keystone.building.several import Job, build_all
from lucky_keystone.content import SourceFile
from lucky_keystone.drives.faults import Faults, FaultyDrive
from lucky_keystone.drives.medium import OpenMedium
from lucky_keystone.errors import Interrupted
from lucky_keystone.progress import silent

from ..helpers.drives import MemoryDrive, small_disc, small_image

MIB = 1 << 20


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


def jobs(disc: Path, *faults: Faults, size: int | None = None) -> tuple[list[Job], list[MemoryDrive]]:
    found, memories = [], []
    for number, fault in enumerate(faults):
        image = small_image(disc, name=f"DRV{number}", size=size)
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


def test_one_that_fails_does_not_hurt_the_others(disc: Path) -> None:
    made, memories = jobs(disc, Faults(), Faults(vanishes_after=9 * MIB), Faults(), Faults(forgets=[(30 * MIB, 8)]))
    build_all(made)

    assert [job.error is None for job in made] == [True, False, True, False]
    assert [bytes(memories[n].data) == alone(made[n]) for n in (0, 2)] == [True, True]
    assert [any(memories[n].data[:512]) for n in (1, 3)] == [False, False]


def test_one_that_lags_goes_on_in_a_pass_of_its_own(disc: Path) -> None:
    """At 25 MiB/s it would hold the others up for more than two seconds.

    They do not wait for it, and it ends as well.
    """
    made, memories = jobs(disc, Faults(), Faults(bytes_per_second=25 * MIB), Faults())
    ended: dict[str, float] = {}
    for job in made:
        job.progress = lambda stage, done, total, name=job.name: ended.__setitem__(name, time.monotonic())
    build_all(made, patience=0.2)

    assert [job.fell_back for job in made] == [False, True, False]
    assert [job.error for job in made] == [None] * 3
    assert ended["DRV1"] > max(ended["DRV0"], ended["DRV2"])
    assert [bytes(memory.data) for memory in memories] == [alone(job) for job in made]


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
