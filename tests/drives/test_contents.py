"""What is told of a drive before it is erased: nothing that holds something is called empty."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.drives.contents import describe
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.choices import Choices
from lucky_keystone.sources.opening import open_source
from lucky_keystone.tables.mbr import MbrPartition, compose_mbr

from ..helpers.drives import Built, build_drive

SIZE = 64 << 20


@pytest.mark.parametrize(
    ("pieces", "told"),
    [
        ({}, "empty"),
        ({700_000: b"someone's timetable"}, "no table, but not empty"),
        ({SIZE - 600: b"the end of it"}, "no table, but not empty"),
        ({SIZE - 512: b"EFI PART"}, "remains of a GPT"),
        ({0: compose_mbr(b"", 1, [], 512)}, "MBR without partitions"),
        ({0: compose_mbr(b"", 1, [MbrPartition(1, False, 0x07, 2048, 90_000)], 512)}, "MBR: NTFS or exFAT 43.9 MiB"),
        ({0: compose_mbr(b"", 1, [MbrPartition(1, False, 0xEE, 1, 131_071)], 512)}, "protective record without a GPT"),
    ],
    ids=lambda value: value if isinstance(value, str) else "",
)
def test_a_drive_is_described_by_its_bytes(pieces: dict[int, bytes], told: str, tmp_path: Path) -> None:
    with ImageFile.make(tmp_path / "drive.img", SIZE) as drive:
        for offset, data in pieces.items():
            drive.write_at(offset, memoryview(data))
        assert describe(drive, 512) == told


def test_a_volume_or_disc_image_without_a_table_is_recognised(built: Built, disc: Path, tmp_path: Path) -> None:
    bare = tmp_path / "bare.img"
    bare.write_bytes(built.path.read_bytes()[1 << 20 :])
    with ImageFile(bare) as volume, ImageFile(disc) as image, ImageFile(built.path) as drive:
        assert describe(volume, 512) == "FAT32 'TIDEWELL_11' without a table"
        assert describe(image, 512) == "disc image 'TIDEWELL_11', as it is"
        assert describe(drive, 512).startswith("MBR: FAT32 'TIDEWELL_11'")


@pytest.mark.parametrize("table", ["mbr", "gpt"])
def test_both_volumes_of_a_pair_are_told(table: str, disc: Path, tmp_path: Path) -> None:
    choices = Choices(table=table, file_system="fat32+ntfs", label="Crew laptops")
    drive = build_drive(open_source(disc), tmp_path / "crew.img", choices)
    with ImageFile(drive.path) as image:
        told = describe(image, 512)
    assert told.startswith(f"{table.upper()}: NTFS 'Crew laptops' ")
    assert ", FAT32 'LKEY START' 34 MiB" in told
