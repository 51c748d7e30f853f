"""Updating: what did not change keeps its place, only what differs is written, and nothing is lost on the way."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.building.image import DriveImage
from lucky_keystone.building.update import read_standing, update
from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.errors import DriveGone, ProtectError, SourceError, UsageError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Literal, stream
from lucky_keystone.content.tree import File, Folder
from lucky_keystone.demo.tidewell import installer
from lucky_keystone.drives.faults import Faults, FaultyDrive
from lucky_keystone.drives.medium import Medium
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.source import Source
from lucky_keystone.volumes.fat32.read import Fat32Volume

from ..helpers.amount import part_of
from ..helpers.drives import MemoryDrive

MIB = 1 << 20
SIZE = 96 * MIB
Change = Callable[[Folder], None]


def source(*changes: Change) -> Source:
    """A Tidewell installer of 12 MiB as a source, changed."""
    root = installer(loader_size=300 << 10, hollow_size=1 << 20, hollow_count=0, files=10)
    chance = random.Random(5)
    folder = Folder("drivers")
    root.entries["drivers"] = folder
    for number in range(12):
        name = f"set{number:02}.bin"
        folder.entries[name] = File(name, Literal(chance.randbytes(MIB + number * 700)), datetime(2026, 3, 1))
    for change in changes:
        change(root)
    return Source(Path("tidewell.iso"), "folder", "TIDEWELL_11", root)


def put(name: str, size: int, seed: int = 1) -> Change:
    def change(root: Folder) -> None:
        folder = root.find_folder("drivers")
        assert folder is not None
        folder.entries[name] = File(
            name, Literal(random.Random(seed).randbytes(size)), datetime(2026, 11, seed % 28 + 1)
        )

    return change


def remove(*names: str) -> Change:
    def change(root: Folder) -> None:
        folder = root.find_folder("drivers")
        assert folder is not None
        for name in names:
            folder.entries.pop(name, None)

    return change


def built(found: Source, size: int = SIZE) -> MemoryDrive:
    drive = MemoryDrive(size)
    build(compose_drive(make_plan(found, Choices(identity="crew"), DriveShape("crew", size))), drive, silent)
    drive.log.clear()
    return drive


def planned(found: Source, drive: Medium) -> tuple[DriveImage, object]:
    standing = read_standing(drive, 512)
    return compose_drive(
        make_plan(found, Choices(identity="crew"), DriveShape("crew", drive.size), standing.volumes)
    ), standing


def updated(found: Source, drive: Medium, *, quick: bool = False) -> int:
    image, standing = planned(found, drive)
    return update(image, drive, standing, silent, quick=quick).bytes_written  # type: ignore[arg-type]


def assert_holds(drive: MemoryDrive, found: Source) -> None:
    """The drive is healthy, and its tree and bytes are the source's, as our own reader sees them."""
    report = check_drive(drive, silent)
    assert (report.healthy, report.findings) == (True, [])
    volume = Fat32Volume(drive, MIB, drive.size - MIB)
    held = {entry.path: b"".join(volume.pieces(entry)) for entry in volume.walk() if not entry.is_folder}
    assert held == {path: b"".join(map(bytes, stream(file.content))) for path, file in found.root.files()}


def writes(drive: MemoryDrive) -> list[tuple[str, int, int]]:
    return [step for step in drive.log if step[0] in ("write", "zero")]


def places(drive: MemoryDrive) -> dict[str, int]:
    volume = Fat32Volume(drive, MIB, drive.size - MIB)
    return {entry.path: entry.first_cluster for entry in volume.walk() if not entry.is_folder}


def test_an_unchanged_drive_is_not_written_and_if_wanted_its_source_not_read() -> None:
    drive = built(source())
    before = bytes(drive.data)

    def unreadable(root: Folder) -> None:
        folder = root.find_folder("drivers")
        assert folder is not None
        for name, file in list(folder.entries.items()):
            assert isinstance(file, File)
            folder.entries[name] = File(name, _Unreadable(file.size), file.modified)

    assert updated(source(unreadable), drive, quick=True) == 0
    assert updated(source(), drive) == 0
    assert (writes(drive), drive.data == before) == ([], True)


def test_a_change_that_keeps_size_and_time_is_found_and_so_is_one_with_fresh_hashes() -> None:
    """Neither the source's times nor the drive's own manifest are believed, unless that is asked for."""
    drive = built(source())
    name, old = next((path, file) for path, file in source().root.files() if file.size > 5000)

    def changed(root: Folder) -> None:
        folder, _, last = name.rpartition("/")
        found = root.find_folder(folder) if folder else root
        assert found is not None
        found.entries[last] = File(last, Literal(b"x" * old.size), old.modified)

    newer = source(changed)
    assert updated(newer, drive, quick=True) == 0
    assert updated(newer, drive) > 0
    assert_holds(drive, newer)

    # The drive's content is changed, and its manifest with it: the source says otherwise.
    forged = built(newer)
    assert updated(source(), forged) > 0
    assert_holds(forged, source())


class _Unreadable(Literal):
    def __init__(self, size: int) -> None:
        super().__init__(bytes(size))

    def open(self) -> None:  # type: ignore[override]
        raise AssertionError("the source was read")


def test_files_keep_their_place_and_the_drive_is_unsealed_first() -> None:
    drive = built(source())
    before = places(drive)
    newer = source(put("set03.bin", MIB + 3 * 700, seed=9), put("new.bin", 3 * MIB, seed=8), remove("set07.bin"))
    updated(newer, drive)

    assert_holds(drive, newer)
    after = places(drive)
    assert {path: after[path] for path in before if path in after} == {
        path: at for path, at in before.items() if path in after
    }
    first, *_, last = writes(drive)
    assert (first, last) == (("write", 0, 512), ("write", 0, 512))
    written = sum(size for _, _, size in writes(drive))
    assert written < 7 * MIB, "much more was written than what changed"


@settings(max_examples=part_of(24))
@given(
    st.lists(
        st.one_of(
            st.builds(
                put, st.sampled_from([f"set{n:02}.bin" for n in range(14)]), st.integers(0, 9 * MIB), st.integers(1, 99)
            ),
            st.builds(remove, *[st.sampled_from([f"set{n:02}.bin" for n in range(14)])] * 3),
        ),
        max_size=6,
    ),
    st.lists(
        st.builds(put, st.sampled_from(["set01.bin", "x.bin"]), st.integers(0, 5 * MIB), st.integers(1, 99)), max_size=3
    ),
)
def test_any_change_after_any_change(first: list[Change], second: list[Change]) -> None:
    """Two updates in a row with whatever changes, then one without.

    Always the source's tree, and at last nothing to write.
    """
    drive = built(source())
    for changes in (first, [*first, *second]):
        updated(source(*changes), drive)
        assert_holds(drive, source(*changes))
    assert updated(source(*first, *second), drive) == 0


def test_an_interrupted_update_has_no_seal_and_goes_on() -> None:
    newer = source(*[put(f"set{n:02}.bin", 2 * MIB, seed=n + 20) for n in range(8)], remove("set09.bin"))
    chance = random.Random(4)
    cut_short = 0
    final = bytes(built(newer).data[:512])
    for seed in range(part_of(40)):
        drive = built(source())
        sealed = bytes(drive.data[:512])
        faulty = FaultyDrive(drive, Faults(volatile_cache=chance.choice([64 << 10, 8 * MIB])), seed=seed)
        faulty.cut_at = chance.randrange(40)
        try:
            updated(newer, faulty)
        except DriveGone:
            cut_short += 1
            if drive.data[:512] == sealed:
                assert check_drive(drive, silent).healthy
            else:
                assert drive.data[:512] in (bytes(512), final)
        updated(newer, drive)
        assert_holds(drive, newer)
    assert cut_short > part_of(40) // 3


def test_a_drive_that_cannot_be_updated_says_why() -> None:
    drive = built(source())
    cases: list[tuple[Change | None, Callable[[], None], type[Exception], str]] = [
        (put("big.bin", 79 * MIB), lambda: None, SourceError, "no room in one piece for drivers/big.bin"),
        (
            None,
            lambda: drive.data.__setitem__(slice(512 + 600, 512 + 604), b"rust"),
            ProtectError,
            "its manifest is damaged",
        ),
        (
            None,
            lambda: drive.data.__setitem__(slice(512, 520), b"SOMEBODY"),
            ProtectError,
            "was not built by this program",
        ),
    ]
    for change, spoil, kind, told in cases:
        spoil()
        with pytest.raises(kind, match=told) as raised:
            updated(source(*([change] if change else [])), drive)
        assert "without --update" in raised.value.advice  # type: ignore[attr-defined]
        assert any(drive.data[:512]), "the seal is gone"
    standing = read_standing(built(source()), 512)
    with pytest.raises(UsageError, match="cannot be chosen"):
        make_plan(source(), Choices(cluster=4096), DriveShape("crew", SIZE), standing.volumes)
