"""The MBR: literal bytes, CHS by arithmetic, and what is said of bad tables."""

from __future__ import annotations

import pytest

from lucky_keystone.tables.mbr import MbrPartition, chs, compose_mbr, read_mbr


@pytest.mark.parametrize(
    ("lba", "expected"),
    [
        (0, "00 01 00"),  # the first sector of all
        (62, "00 3f 00"),  # the last sector of the first track
        (2048, "20 21 00"),  # 2048 = 32 * 63 + 32: head 32, sector 33
        (16065, "00 01 01"),  # 255 * 63: the second cylinder
        (16065 * 1023, "00 c1 ff"),  # cylinder 1023: its two high bits stand above the sector
        (16065 * 1024, "fe ff ff"),
        (0xFFFFFFFF, "fe ff ff"),
    ],
)
def test_chs_follows_the_geometry_of_255_heads_and_63_sectors(lba: int, expected: str) -> None:
    assert chs(lba).hex(" ") == expected


def test_a_sector_is_composed_byte_by_byte() -> None:
    sector = compose_mbr(b"\xfa", 0x11223344, [MbrPartition(1, True, 0x0C, 2048, 4096)], 4096)

    assert len(sector) == 4096
    assert sector[:2] == b"\xfa\0"
    assert sector[440:446].hex() == "443322110000"
    # last sector 6143 = 97 * 63 + 32: head 97, sector 33
    assert sector[446:462].hex(" ") == "80 20 21 00 0c 61 21 00 00 08 00 00 00 10 00 00"
    assert sector[510:512] == b"\x55\xaa"


def test_a_partition_beyond_two_tebibytes_is_not_written() -> None:
    with pytest.raises(ValueError, match="beyond what an MBR can say"):
        compose_mbr(b"", 1, [MbrPartition(1, True, 0x0C, 2048, 1 << 32)], 512)


@pytest.mark.parametrize(
    ("partitions", "fault"),
    [
        ([MbrPartition(1, True, 0x0C, 2048, 90_000)], "ends at sector 92048, the drive has 70000"),
        ([MbrPartition(1, True, 0x0C, 2048, 4096), MbrPartition(2, False, 0x07, 4096, 4096)], "1 and 2 overlap"),
        ([MbrPartition(1, False, 0x0C, 0, 4096)], "starts at sector 0"),
    ],
)
def test_bad_tables_are_told_of(partitions: list[MbrPartition], fault: str) -> None:
    table = read_mbr(compose_mbr(b"", 1, partitions, 512), 70_000)

    assert table is not None
    assert any(fault in str(line) for line in table.faults), table.faults
