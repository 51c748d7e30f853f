"""Volumes that are known and not read, and disc images that were written as they are, are no faulty FAT32."""

from __future__ import annotations

import random
import subprocess
from pathlib import Path

import pytest

from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.progress import silent
from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.drives.contents import describe
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.families import facts_of
from lucky_keystone.mending.make import make_mending
from lucky_keystone.sources.opening import open_source
from lucky_keystone.tables.mbr import MbrPartition, compose_mbr
from lucky_keystone.volumes.known import KNOWN

from ..helpers.drives import MemoryDrive, build_drive, check_file, small_disc
from ..helpers.judges import need
from ..helpers.program import run

MIB = 1 << 20
START = 2048 * 512


def drive_with(at: int, data: bytes) -> MemoryDrive:
    drive = MemoryDrive(48 * MIB)
    drive.data[:512] = compose_mbr(b"", 7, [MbrPartition(1, False, 0x07, 2048, 90_000)], 512)
    drive.data[START + at : START + at + len(data)] = data
    return drive


@pytest.mark.parametrize("known", KNOWN, ids=lambda known: f"{known.shown} at {known.at}")
def test_each_has_its_name(known: object, tmp_path: Path) -> None:
    drive = drive_with(known.at, known.magic)  # type: ignore[attr-defined]
    report = check_drive(drive, silent)
    assert report.findings == []
    assert f"partition 1 holds {known.shown}, which is not supported." in report.unknown  # type: ignore[attr-defined]
    assert describe(drive, 512) == f"MBR: {known.shown} 43.9 MiB"  # type: ignore[attr-defined]
    (tmp_path / "drive.img").write_bytes(drive.data)
    assert facts_of(open_source(tmp_path / "drive.img")).table == describe(drive, 512)


@pytest.mark.parametrize(
    ("tool", "shown"), [(["mkfs.ext4", "-q", "-F"], "ext2, ext3 or ext4"), (["mkswap"], "Linux swap")]
)
def test_as_the_systems_tools_make_them(tool: list[str], shown: str, tmp_path: Path) -> None:
    volume = tmp_path / "volume.img"
    volume.write_bytes(bytes(40 * MIB))
    subprocess.run([need(tool[0]), *tool[1:], volume], check=True, capture_output=True)
    drive = drive_with(0, volume.read_bytes())
    assert describe(drive, 512) == f"MBR: {shown} 43.9 MiB"
    with ImageFile(volume) as bare:
        assert describe(bare, 512) == f"{shown} without a table"
    assert f"is a volume ({shown}) and no installer" in run("plan", volume, code=4).stderr


def test_a_volume_that_should_be_there_is_still_missed() -> None:
    assert [found.code for found in check_drive(drive_with(0, b"\xeb\x3c\x90"), silent).findings] == [
        "volume.unreadable"
    ]


def test_a_drive_that_ends_before_its_partition_is_not_mended_by_shortening_the_volume(tmp_path: Path) -> None:
    source = open_source(small_disc(tmp_path / "disc.iso"))
    whole = build_drive(source, tmp_path / "whole.img", size=200 * MIB).path.read_bytes()
    drive = MemoryDrive(len(whole) - 4 * MIB)
    drive.data[:] = whole[: drive.size]
    drive.data[512:START] = bytes(START - 512)  # without our manifest
    assert "volume.beyond-partition" not in [remedy.code for remedy in make_mending(drive, 512, silent).remedies]


def test_the_partitions_of_a_hybrid_disc_are_no_volumes_of_ours(tmp_path: Path) -> None:
    """The disc's own volume as "basic data", a FAT image inside of it, and a gap: what most distributions ship."""
    fat = tmp_path / "efi.img"
    fat.write_bytes(bytes(4 * MIB))
    subprocess.run([need("mkfs.fat"), fat], check=True, capture_output=True)
    subprocess.run([need("mmd"), "-i", fat, "::EFI", "::EFI/BOOT"], check=True)
    (tmp_path / "loader").write_bytes(uefi_loader("x64"))
    subprocess.run([need("mcopy"), "-i", fat, tmp_path / "loader", "::EFI/BOOT/BOOTX64.EFI"], check=True)
    folder = tmp_path / "disc"
    folder.mkdir()
    (folder / "efi.img").write_bytes(fat.read_bytes())
    (folder / "filling").write_bytes(random.Random(5).randbytes(8 * MIB))
    hybrid = tmp_path / "hybrid.iso"
    subprocess.run([need("genisoimage"), "-quiet", "-o", hybrid, folder], check=True, capture_output=True)
    data = hybrid.read_bytes()
    first = data.index(fat.read_bytes()[:512]) // 512
    hybrid.write_bytes(data.ljust(-(-len(data) // MIB) * MIB + MIB, b"\0"))
    last = len(data) // 512 - 1
    parts = [f"--new=1:64:{first - 1}", f"--new=2:{first}:{first + 8191}", f"--new=3:{first + 8192}:{last}"]
    kinds = ["--typecode=1:0700", "--typecode=2:ef00", "--typecode=3:0700"]
    subprocess.run([need("sgdisk"), "-a", "1", *parts, *kinds, hybrid], check=True, capture_output=True)
    for drive in (hybrid, tmp_path / "stick.img"):
        if drive is not hybrid:
            run("build", hybrid, "--onto", drive, "--size", "64MB")
        report = check_file(drive)
        assert [found for found in report.findings if found.level == "fault"] == []
        told = " ".join(report.unknown)
        assert "partition 1 is a part of the disc image" in told
        assert "partition 3 is a part of the disc image" in told
