"""Files that mending adds: from inside images, in parts, across volumes; in free clusters only, wherever those lie."""

from __future__ import annotations

import random
import shutil
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lucky_keystone.common.errors import SourceError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Content, Literal, stream
from lucky_keystone.content.tree import EPOCH, File
from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.families.choices import Choices
from lucky_keystone.mending import files as mended_files
from lucky_keystone.mending.draft import Draft
from lucky_keystone.mending.make import Mending, make_mending
from lucky_keystone.mending.remedy import Wishes
from lucky_keystone.mending.steps import make_steps
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source
from lucky_keystone.starting.store_making import MenuEntry, WantedMenu, make_menu
from lucky_keystone.volumes.fat32.adding import Addition, add_files
from lucky_keystone.volumes.fat32.kind import FAT32
from lucky_keystone.volumes.fat32.read import Fat32Volume

from ..helpers.drives import MemoryDrive, build_drive, extract, small_disc
from ..helpers.hand_made import CASES, START, call, mtools
from ..helpers.judges import assert_checker_is_silent, need, read_by_others
from ..helpers.releases import LOADER, release


def mended(drive: MemoryDrive, source: Source | None = None) -> tuple[Mending, MemoryDrive]:
    """Return what is done about a drive, and the drive as it is then."""
    mending = make_mending(drive, 512, silent, wishes=Wishes(source=source))
    after = MemoryDrive(drive.size)
    after.data[:] = drive.data
    for step in make_steps(drive, mending.changes, 512):
        for offset, data in step.pieces():
            after.write_at(offset, memoryview(data))
    return mending, after


def codes(mending: Mending) -> list[str]:
    return [remedy.code for remedy in mending.remedies]


def without_manifest(path: Path) -> MemoryDrive:
    drive = MemoryDrive.of(path)
    drive.data[512:START] = bytes(START - 512)
    return drive


def verdicts(mending: Mending) -> dict[str, str]:
    return {row.firmware: row.verdict for row in mending.after.report.starts}


def test_a_loader_from_inside_the_drives_own_install_image(tmp_path: Path) -> None:
    loader = uefi_loader("x64")
    place = release(
        tmp_path / "old", build=7601, loaders={}, inside={f"Windows/Boot/EFI/{LOADER}": loader}, method="xpress"
    )
    drive = without_manifest(build_drive(open_source(place), tmp_path / "old.img", Choices(firmware="bios")).path)
    mtools(["mdeltree", "::efi/boot"])(drive, tmp_path)
    mending, after = mended(drive)
    assert codes(mending) == ["start.no-removable-loader"]
    assert "from inside" in mending.remedies[0].what
    found = {path.lower(): data for path, data in read_by_others(after, START).items()}
    assert found["efi/boot/bootx64.efi"] == loader
    assert verdicts(mending)["UEFI 64-bit"] == "starts"


def test_of_another_release_nothing_is_taken(drives: dict[str, bytes], files: Path, tmp_path: Path) -> None:
    drive = CASES["loader cut off"].drive(drives, files)
    other = open_source(release(tmp_path / "other", build=26100))
    mending, after = mended(drive, other)
    assert codes(mending) == []
    assert "is of another release (build 26100" in mending.left[0].why
    assert after.data == drive.data


def test_an_image_too_large_for_fat32_is_written_in_parts(
    drives: dict[str, bytes], files: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(mended_files, "LARGEST_PART", 3 << 20)
    drive = CASES["install image cut off"].drive(drives, files)
    before = read_by_others(drive, START)
    mending, after = mended(drive, open_source(files))
    assert codes(mending) == ["setup.image"]
    now = read_by_others(after, START)
    parts = {path for path in now if path.startswith("sources/install")}
    assert parts >= {"sources/install.swm", "sources/install2.swm"}
    assert "sources/install.wim" not in parts
    assert {path: data for path, data in now.items() if path not in parts} == {
        path: data for path, data in before.items() if path != "sources/install.wim"
    }
    assert make_mending(after, 512, silent).before.report.exit_code == 0


@pytest.mark.parametrize("shape", ["fat32+ntfs", "ntfs"])
def test_firmware_gets_what_lies_on_the_other_volume(shape: str, tmp_path: Path) -> None:
    """Of a pair the loader itself; beside a volume of NTFS alone our helper."""
    source = open_source(small_disc(tmp_path / "disc.iso"))
    built = build_drive(source, tmp_path / "drive.img", Choices(file_system=shape))
    start = next(volume.planned.start for volume in built.plan.volumes if volume.planned.kind is FAT32)
    call(need("mdeltree"), "-i", f"{built.path}@@{start}", "::EFI")
    drive = without_manifest(built.path)
    mending, _ = mended(drive)
    assert codes(mending) == ["start.no-crossing"]
    assert verdicts(mending)["UEFI 64-bit"] == "starts"
    assert ("our helper" in mending.remedies[0].what) == (shape == "ntfs")


def test_on_ntfs_a_file_of_the_same_size_gets_its_bytes_back(
    drives: dict[str, bytes], files: Path, tmp_path: Path
) -> None:
    drive = CASES["NTFS for BIOS"].drive(drives, files)
    loader = (files / "efi/boot/bootx64.efi").read_bytes()
    place = drive.data.index(loader[:2048])
    drive.data[place + 0x40 : place + 1500] = b"\xaa" * (1500 - 0x40)
    mending, after = mended(drive, open_source(files))
    assert codes(mending) == ["start.loader-architecture"]
    assert [change.size for change in mending.remedies[0].changes] == [len(loader)]
    assert read_by_others(after, START)["efi/boot/bootx64.efi"] == loader


@pytest.mark.parametrize(
    ("store", "shape", "firmware"),
    [
        ("boot/BCD", "fat32", "BIOS"),
        ("EFI/Microsoft/Boot/BCD", "fat32", "UEFI 64-bit"),
        ("EFI/Microsoft/Boot/BCD", "fat32+ntfs", "UEFI 64-bit"),
    ],
)
def test_a_lost_or_damaged_store_is_the_sources_own(store: str, shape: str, firmware: str, tmp_path: Path) -> None:
    folder = extract(small_disc(tmp_path / "disc.iso"), tmp_path / "disc")
    for kind, path in (("bios", "boot/bcd"), ("uefi", "efi/microsoft/boot/bcd")):
        entry = MenuEntry(
            name="Counter setup",
            image="sources/boot.wim",
            base="boot/boot.sdi",
            loader="windows/system32/winload.exe",
        )
        wanted = WantedMenu(
            firmware=kind,
            entries=[entry],
            default=0,
            timeout=30,
            language="en-US",
            has_memory_test=False,
            time=0,
        )
        (folder / path).write_bytes(make_menu(wanted))
    (folder / "efi/microsoft/boot/memtest.efi").write_bytes(b"counts the berths")
    source = open_source(folder)
    built = build_drive(source, tmp_path / "drive.img", Choices(file_system=shape))
    start = next(volume.planned.start for volume in built.plan.volumes if volume.planned.kind is FAT32)
    volume = f"{built.path}@@{start}"
    damaged = tmp_path / "damaged"
    damaged.write_bytes(next(data for path, data in files_in(source) if path.lower() == store.lower())[:5000])
    for command in (["mdel", "-i", volume, f"::{store}"], ["mcopy", "-i", volume, damaged, f"::{store}"]):
        call(need(command[0]), *command[1:])
        drive = without_manifest(built.path)
        mending, after = mended(drive, source)
        assert {row.firmware: row.verdict for row in mending.before.report.starts}[firmware] == "will not start"
        assert codes(mending) == ["start.store"]
        assert verdicts(mending)[firmware] == "starts"
        now = {path.lower(): data for path, data in read_by_others(after, start).items()}
        assert [now[store.lower()]] == [data for path, data in files_in(source) if path.lower() == store.lower()]


def files_in(source: Source) -> list[tuple[str, bytes]]:
    return [(path, b"".join(map(bytes, stream(file.content)))) for path, file in source.root.files()]


# -- the writer ------------------------------------------------------------------------------------------------------


def applied(drive: MemoryDrive, made: Addition) -> None:
    for offset, content in made.contents:
        reader, view = content.open(), memoryview(bytearray(content.size))
        assert reader.readinto(view) == content.size
        drive.write_at(offset, view)
    for group in (*made.taken, made.names, *made.freed, made.counted):
        for offset, data in group:
            drive.data[offset : offset + len(data)] = data


def literal(size: int, seed: str) -> Content:
    return Literal(random.Random(seed).randbytes(size))


@pytest.mark.parametrize("seed", range(6))
def test_files_are_added_replaced_and_removed_between_others(
    seed: int, drives: dict[str, bytes], files: Path, tmp_path: Path
) -> None:
    """On a volume full of holes, under names of all kinds: other readers and checkers find no fault."""
    chance = random.Random(seed)
    path = tmp_path / "holes.img"
    path.write_bytes(drives["mbr"])
    many = tmp_path / "many"
    many.mkdir()
    for number in range(60):
        (many / f"list {number:02}.txt").write_bytes(chance.randbytes(chance.randrange(1, 4000)))
    call(need("mcopy"), "-i", f"{path}@@{START}", *sorted(many.iterdir()), "::support")
    gone = chance.sample(range(60), 25)
    call("mdel", "-i", f"{path}@@{START}", *(f"::support/list {number:02}.txt" for number in gone))
    drive = MemoryDrive.of(path)
    before = read_by_others(drive, START)
    volume = Fat32Volume(drive, START, (drive.size - START) // 2 * 2)
    new = {
        "support/Überfahrt 東京 with a very long name for a timetable.txt": literal(chance.randrange(9000), "a"),
        "support/list 99.txt": literal(chance.randrange(70_000), "b"),
        "efi/NEW/DEEP/BOOTX64.EFI": literal(5000, "c"),
        "bootmgr": literal(300_000, "d"),
        "empty.txt": literal(0, "e"),
    }
    removed = [name for name in before if name.startswith("support/list")][:3]
    made = add_files(volume, {name: File(name.rpartition("/")[2], data, EPOCH) for name, data in new.items()}, removed)
    applied(drive, made)
    after = read_by_others(drive, START)
    expected = {name: data for name, data in before.items() if name not in removed}
    expected |= {name: data.read_at(0, data.size) for name, data in new.items()}  # type: ignore[attr-defined]
    assert after == expected
    path.write_bytes(drive.data)
    again = Fat32Volume(drive, START, (drive.size - START) // 2 * 2)
    assert [entry.path for entry in again.walk() if entry.faults] == []
    assert_checker_is_silent(path, FAT32.geometry_of(again), tmp_path)


def copied_out(image: Path, folder: Path) -> dict[str, bytes]:
    """Return every file of a volume by its path in upper case, read by a tool that joins names across clusters."""
    folder.mkdir()
    call(need("mcopy"), "-s", "-n", "-i", image, "::", folder)
    files = (path for path in folder.rglob("*") if path.is_file())
    return {path.relative_to(folder).as_posix().upper(): path.read_bytes() for path in files}


@given(
    sizes=st.dictionaries(
        st.tuples(st.sampled_from(["", "DIR/", "dir/", "NEW/", "New/below/"]), st.text("abc 1.", min_size=1)),
        st.integers(0, 1500),
        min_size=1,
        max_size=12,
    ),
    filling=st.integers(0, 20),
    long=st.sampled_from([1, 60, 244, 254]),
    removes=st.booleans(),
)
@settings(max_examples=10, suppress_health_check=list(HealthCheck))
def test_folders_grow_as_far_as_they_must(
    sizes: dict[tuple[str, str], int], filling: int, long: int, removes: bool, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """In clusters of 512 bytes: a folder that is full gets clusters for all names, and loses none that it had."""
    folder = tmp_path_factory.mktemp("grow")
    path = folder / "stick.img"
    call(need("mkfs.fat"), "-C", "-F", "32", "-s", "1", path, "36864")
    old = [folder / f"OLD{number}" for number in range(filling + 1)]
    for each in old:
        each.write_bytes(each.name.encode())
    call(need("mmd"), "-i", path, "::DIR", "::GONE", "::GONE/DEEP")
    call(need("mcopy"), "-i", path, *old, "::DIR")
    call(need("mcopy"), "-i", path, *old[:1], "::GONE/DEEP")
    drive = MemoryDrive.of(path)
    before = copied_out(path, folder / "before")
    new: dict[str, tuple[str, Content]] = {}
    for number, ((place, name), size) in enumerate(sizes.items()):
        named = f"{place}{number}{name.strip(' .')}".ljust(long, "x")[: long + len(place)]
        new[named.upper()] = named, literal(size, str(number))
    volume = Fat32Volume(drive, 0, drive.size)
    files = {path: File(path.rpartition("/")[2], data, EPOCH) for path, data in new.values()}
    applied(drive, add_files(volume, files, ["GONE"] if removes else []))
    path.write_bytes(drive.data)
    kept = {name: data for name, data in before.items() if not (removes and name.startswith("GONE"))}
    added = {name: data.read_at(0, data.size) for name, (_, data) in new.items()}  # type: ignore[attr-defined]
    assert copied_out(path, folder / "after") == kept | added
    again = Fat32Volume(drive, 0, drive.size)
    assert_checker_is_silent(path, FAT32.geometry_of(again), folder)
    shutil.rmtree(folder)


def test_a_volume_that_is_too_full_takes_nothing(drives: dict[str, bytes], files: Path, tmp_path: Path) -> None:
    drive = CASES["for both"].drive(drives, files)
    volume = Fat32Volume(drive, START, drive.size - START)
    with pytest.raises(SourceError, match="too little free space"):
        add_files(volume, {"huge.bin": File("huge.bin", literal(48 << 20, "x"), EPOCH)})


def test_a_draft_reads_like_the_drive_it_becomes(drives: dict[str, bytes], files: Path, tmp_path: Path) -> None:
    drive = CASES["lost loader, and UEFI alone"].drive(drives, files)
    mending, after = mended(drive)
    draft, chance = Draft(drive, mending.changes), random.Random(3)
    places = [change.offset for change in mending.changes]
    for _ in range(400):
        at = max(chance.choice(places) - chance.randrange(9000), 0)
        size = min(chance.randrange(1, 20_000), drive.size - at)
        assert draft.read_at(at, size) == after.read_at(at, size)
