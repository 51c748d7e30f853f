"""Drives with NTFS: built, checked, damaged, used, updated and given back, as the NTFS volume alone and in a pair."""

from __future__ import annotations

import random
import re
import subprocess
from pathlib import Path

import pytest

from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.building.reclaim import compose_storage
from lucky_keystone.building.update import read_standing, update
from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.errors import DriveGone, KeystoneError, ProtectError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Literal
from lucky_keystone.content.tree import File
from lucky_keystone.drives.faults import Faults, FaultyDrive
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source
from lucky_keystone.volumes.ntfs.read import NtfsVolume

from ..helpers.drives import MemoryDrive, small_disc
from ..helpers.judges import mounted, need

SHAPES = [("mbr", "ntfs"), ("mbr", "fat32+ntfs"), ("gpt", "ntfs"), ("gpt", "fat32+ntfs")]


@pytest.fixture(scope="module")
def source(tmp_path_factory: pytest.TempPathFactory) -> Source:
    return open_source(small_disc(tmp_path_factory.mktemp("shapes") / "disc.iso"))


def built(
    source: Source, table: str, file_system: str, *, size: int = 128 << 20, sector_size: int = 512
) -> MemoryDrive:
    plan = make_plan(source, Choices(table=table, file_system=file_system), DriveShape("CREW", size, sector_size))
    drive = MemoryDrive(size)
    build(compose_drive(plan), drive, silent)
    return drive


@pytest.mark.parametrize(("table", "file_system"), SHAPES)
@pytest.mark.parametrize("sector_size", [512, 4096])
def test_what_was_built_is_found_as_planned(table: str, file_system: str, sector_size: int, source: Source) -> None:
    size = 640 << 20 if sector_size == 4096 else 128 << 20
    plan = make_plan(source, Choices(table=table, file_system=file_system), DriveShape("CREW", size, sector_size))
    drive = MemoryDrive(size)
    build(compose_drive(plan), drive, silent)
    report = check_drive(drive, silent)
    assert (report.findings, report.unknown) == ([], [])
    assert [volume.file_system for volume in report.volumes] == ["NTFS", "FAT32"]
    assert report.volumes[0].file_count == sum(1 for _ in source.root.files())
    assert {row.firmware: row.verdict for row in report.starts} == {row.firmware: row.verdict for row in plan.forecast}
    # BPB and partition: hidden sectors literally, the total one less, the copy in the last sector.
    start = plan.volumes[0].planned.start
    assert int.from_bytes(drive.data[start + 28 : start + 32], "little") == start // sector_size
    total = int.from_bytes(drive.data[start + 40 : start + 48], "little")
    assert total == plan.volumes[0].planned.size // sector_size - 1
    assert drive.data[start + total * sector_size :][:512] == drive.data[start : start + 512]


@pytest.mark.parametrize(("table", "file_system"), [*SHAPES, ("gpt", "fat32")])
def test_partition_editors_find_nothing_to_complain_of(
    table: str, file_system: str, source: Source, tmp_path: Path
) -> None:
    path = tmp_path / "drive.img"
    path.write_bytes(built(source, table, file_system).data)
    editors = [["sfdisk", "--verify", path], ["parted", "--script", "--machine", path, "unit", "s", "print"]]
    for command in [*editors, *([["sgdisk", "--verify", path]] if table == "gpt" else [])]:
        done = subprocess.run([need(str(command[0])), *command[1:]], capture_output=True, text=True, check=True)
        told = (done.stdout + done.stderr).lower()
        assert (
            not any(word in told for word in ("warning", "caution", "error", "overlap", "problem:"))
            or "no errors" in told
        ), told
    if table == "gpt":
        assert "no problems found" in told


def test_flipped_bits_are_found(source: Source) -> None:
    """60 bits over all that was written, and 8 in each structure.

    Told as damage or as what hosts change, never passed over.
    """
    drive = built(source, "mbr", "fat32+ntfs")
    original = bytes(drive.data)
    image = compose_drive(
        make_plan(source, Choices(table="mbr", file_system="fat32+ntfs"), DriveShape("CREW", drive.size))
    )
    chance = random.Random(20261123)
    spans = [(region.offset, region.size) for region in image.regions]
    for offset, size in chance.choices(spans, [size for _, size in spans], k=60) + [
        span for span in spans for _ in range(8)
    ]:
        at = offset + chance.randrange(size)
        drive.data[at] ^= 1 << chance.randrange(8)
        assert check_drive(drive, silent).findings, at
        drive.data[at] = original[at]


@pytest.mark.parametrize(
    ("place", "told"),
    [
        ("the boot sector's copy", "copy of the boot sector has changed since the build"),
        ("a file record", "was written in part"),
        ("the mirror", "mirror is not the same"),
        ("the cluster map", "clusters of files are marked as free"),
        ("a file", "sources/boot.wim"),
        ("the boot code", "boot code in the volume's sector 1 is damaged"),
    ],
)
def test_damage_is_named(place: str, told: str, source: Source) -> None:
    drive = built(source, "mbr", "ntfs")
    start = 1 << 20
    volume = NtfsVolume(drive, start, drive.size - start)
    wim = volume.find("sources/boot.wim")
    assert wim is not None
    places = {
        "the boot sector's copy": start + volume.boot.total_sectors * 512 + 90,
        "a file record": volume.cluster_offset(volume.boot.mft_cluster) + 40 * 1024 + 510,
        "the mirror": volume.cluster_offset(volume.boot.mft_mirror_cluster) + 100,
        "the cluster map": volume.cluster_offset(volume.bitmap().runs[0].first) + 20,
        "a file": volume.cluster_offset(wim.runs[0].first) + 99,
        "the boot code": start + 600,
    }
    drive.data[places[place]] ^= 0x55
    report = check_drive(drive, silent)
    assert not report.healthy
    assert any(told in finding.what for finding in report.findings), report.findings


def test_use_by_a_host_is_told_from_damage(source: Source, tmp_path: Path) -> None:
    drive = built(source, "mbr", "ntfs")
    mounted(
        drive,
        tmp_path,
        ["sh", "-c", "echo ferry > 'Deck log.txt'; mkdir hold; echo cargo > hold/list.txt; touch setup.exe"],
    )
    report = check_drive(drive, silent)
    assert [finding.level for finding in report.findings] == ["used"], report.findings
    assert "everything that was built is unchanged. New on it: Deck log.txt, hold" in report.findings[0].what
    with pytest.raises(ProtectError, match=r"holds files that were not built.*Deck log"):
        read_standing(drive, 512)

    mounted(drive, tmp_path, ["rm", "setup.exe"], ["mv", "boot/boot.sdi", "boot/other.sdi"])
    report = check_drive(drive, silent)
    faults = [finding.what for finding in report.findings if finding.level == "fault"]
    assert len(faults) == 1
    assert "boot/other.sdi" in faults[0]
    assert re.search(r"file record \d+", faults[0]), "the one that was removed has no name any more"


@pytest.mark.parametrize(("table", "file_system"), [("mbr", "ntfs"), ("gpt", "fat32+ntfs")])
def test_an_update_writes_what_differs_and_gives_the_planned_drive(
    table: str, file_system: str, source: Source
) -> None:
    drive = built(source, table, file_system)
    choices = Choices(table=table, file_system=file_system)
    shape = DriveShape("CREW", drive.size)
    standing = read_standing(drive, 512)
    same = compose_drive(make_plan(source, choices, shape, standing.volumes))
    assert update(same, drive, standing, silent).bytes_written == 0

    newer = Source(source.path, source.form, source.label, source.root.merged(source.root))
    newer.root.entries["timetable.txt"] = File("timetable.txt", Literal(b"09:26 Steg 4\r\n" * 500))
    del newer.root.entries["setup.exe"]
    standing = read_standing(drive, 512)
    before = NtfsVolume(drive, standing.volumes[0].geometry.hidden * 512, 100 << 20).find("sources/boot.wim")
    done = update(compose_drive(make_plan(newer, choices, shape, standing.volumes)), drive, standing, silent)
    assert 0 < done.bytes_written < 2 << 20
    report = check_drive(drive, silent)
    assert report.findings == []
    after = NtfsVolume(drive, standing.volumes[0].geometry.hidden * 512, 100 << 20)
    found = after.find("sources/boot.wim")
    assert before is not None
    assert found is not None
    assert found.runs == before.runs, "a file that did not change keeps its place"
    assert after.find("setup.exe") is None
    with pytest.raises(KeystoneError, match="The drive has NTFS"):
        make_plan(newer, Choices(table=table, file_system="fat32"), shape, read_standing(drive, 512).volumes)


def test_an_interrupted_update_of_a_pair_goes_on(source: Source) -> None:
    """Cut off at random moments with a cache that is lost, as often as it takes.

    In the end the drive is whole, and the updated one.
    """
    newer = Source(source.path, source.form, source.label, source.root.merged(source.root))
    newer.root.entries["timetable.txt"] = File("timetable.txt", Literal(b"09:26 Steg 4\r\n" * 90_000))
    choices, shape = Choices(table="mbr", file_system="fat32+ntfs"), DriveShape("CREW", 128 << 20)
    first = bytes(built(source, "mbr", "fat32+ntfs").data)
    chance, cuts, operations = random.Random(20261123), 0, 0
    for round_ in range(13):
        memory = MemoryDrive(128 << 20)
        memory.data[:] = first
        while True:
            drive = FaultyDrive(memory, Faults(volatile_cache=1 << 20), seed=round_)
            if operations:  # the first round goes through, and tells how many there are
                drive.cut_at = chance.randrange(operations)
            try:
                standing = read_standing(drive, 512)
                update(compose_drive(make_plan(newer, choices, shape, standing.volumes)), drive, standing, silent)
            except DriveGone:
                cuts += 1
                report = check_drive(memory, silent)  # whole, old or new, or told as unfinished
                assert not report.healthy or (report.findings, report.unknown) == ([], []), report.findings
                continue
            operations = operations or drive.operations
            drive.close()
            break
        report = check_drive(memory, silent)
        assert report.findings == []
        assert report.volumes[0].file_count == sum(1 for _ in newer.root.files())
    assert cuts > 5


@pytest.mark.parametrize("file_system", ["fat32", "ntfs"])
def test_reclaimed_drives_are_empty_volumes(file_system: str, source: Source) -> None:
    drive = built(source, "gpt", "fat32+ntfs")
    build(compose_storage(DriveShape("CREW", drive.size), "Pier 4", None, file_system), drive, silent, resume=False)  # type: ignore[arg-type]
    report = check_drive(drive, silent)
    assert [(volume.file_system.lower(), volume.label.upper(), volume.file_count) for volume in report.volumes] == [
        (file_system, "PIER 4", 0)
    ]
    assert {finding.area for finding in report.findings} <= {"start"}
