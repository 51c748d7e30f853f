"""The GPT: literal bytes, an independent partition editor's verdict, both copies read, and what is said of bad ones."""

from __future__ import annotations

import re
import subprocess
import uuid
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest

from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.building.update import read_standing, update
from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.errors import DriveGone
from lucky_keystone.common.progress import silent
from lucky_keystone.drives.contents import describe
from lucky_keystone.drives.faults import Faults, FaultyDrive
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source
from lucky_keystone.tables.gpt import BASIC_DATA, NO_DRIVE_LETTER, SYSTEM, GptPartition, compose_gpt, read_gpt
from lucky_keystone.tables.table import read_table

from ..helpers.drives import MemoryDrive, small_disc
from ..helpers.judges import need

MIB = 1 << 20
DISK = uuid.UUID("11112222-3333-4444-8555-666677778888")
PARTITIONS = [
    GptPartition(1, BASIC_DATA, uuid.UUID(int=0xA1), 2048, 30_000, name="TIDEWELL_11"),
    GptPartition(2, SYSTEM, uuid.UUID(int=0xA2), 40_960, 8192, NO_DRIVE_LETTER, "start helper"),
]


def written(sector: int, size: int = 64 * MIB) -> MemoryDrive:
    """A drive in memory with the partitions above (their sectors hold for 4096 as well)."""
    drive = MemoryDrive(size if sector == 512 else size * 8)
    parts = compose_gpt(DISK, PARTITIONS, drive.size // sector, sector)
    for offset, data in (
        (0, parts.protective),
        (parts.primary_offset, parts.primary),
        (parts.backup_offset, parts.backup),
    ):
        drive.write_at(offset, memoryview(data))
    return drive


def test_bytes_are_those_of_the_specification() -> None:
    """UEFI 2.10, tables 5.4 to 5.6, for a drive of 131,072 sectors.

    Entries of the backup in 131,039, its header in 131,071.
    """
    data = bytes(written(512).data)

    assert data[446:462].hex(" ") == "00 00 02 00 ee ff ff ff 01 00 00 00 ff ff 01 00"
    assert data[510:512] == b"\x55\xaa"
    head = data[512:604]
    assert head[:16].hex(" ") == "45 46 49 20 50 41 52 54 00 00 01 00 5c 00 00 00"
    numbers = [int.from_bytes(head[at : at + 8], "little") for at in (24, 32, 40, 48, 72)]
    assert numbers == [1, 131_071, 34, 131_038, 2]
    assert head[56:72] == bytes.fromhex("22221111333344448555666677778888")
    assert int.from_bytes(head[16:20], "little") == zlib.crc32(head[:16] + bytes(4) + head[20:])
    assert int.from_bytes(head[88:92], "little") == zlib.crc32(data[1024 : 1024 + 16384])
    assert data[1024:1040] == bytes.fromhex("a2a0d0ebe5b9334487c068b6b72699c7")
    assert data[1024 + 56 :][:22] == "TIDEWELL_11".encode("utf-16-le")
    assert data[1152 + 48 : 1152 + 56] == bytes(7) + b"\x80"
    assert data[-512:-508] == b"EFI "
    assert data[-512 - 16384 : -512] == data[1024 : 1024 + 16384]


@pytest.mark.parametrize("sector", [512, 4096])
def test_another_editor_finds_no_errors_and_the_same_partitions(sector: int, tmp_path: Path) -> None:
    tool, place = need("sfdisk"), tmp_path / "drive.img"
    place.write_bytes(written(sector).data)
    device = None
    if sector != 512:  # a file has sectors of 512 bytes to the editor; a loop device can have others
        command = [need("losetup"), "--find", "--show", "--sector-size", str(sector), place]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        if done.returncode:
            pytest.skip(f"no loop device can be made here: {done.stderr.strip()}")
        device = place = Path(done.stdout.strip())
    try:
        told = subprocess.run([tool, "--verify", place], capture_output=True, text=True, check=True).stdout
        dumped = subprocess.run([tool, "--dump", place], capture_output=True, text=True, check=True).stdout
    finally:
        if device:
            subprocess.run(["losetup", "--detach", device], check=True)

    assert "No errors detected" in told
    assert f"label-id: {str(DISK).upper()}" in dumped
    found = re.findall(r"start= *(\d+), size= *(\d+), type=([-0-9A-F]+), uuid=([-0-9A-F]+), name=\"([^\"]*)\"", dumped)
    assert found == [
        (str(p.first_lba), str(p.sector_count), str(p.kind).upper(), str(p.unique).upper(), p.name) for p in PARTITIONS
    ]


@pytest.mark.parametrize("sector", [512, 4096])
def test_what_is_written_is_read_from_either_copy(sector: int) -> None:
    drive = written(sector)
    table = read_gpt(drive, sector)
    assert table is not None
    assert (table.disk, list(table.partitions), table.faults, table.sound_copies) == (DISK, PARTITIONS, (), 2)
    drive.write_at(sector, memoryview(bytes(sector)))
    table = read_gpt(drive, sector)
    assert table is not None
    assert (list(table.partitions), table.sound_copies) == (PARTITIONS, 1)
    assert "primary table in sector 1: signature" in str(table.faults[0])


def resealed(change: Callable[[bytearray], None]) -> Callable[[MemoryDrive], None]:
    """Change the primary's 16 KiB of entries or its header, and make its sums right again: a forged table."""

    def forge(drive: MemoryDrive) -> None:
        change(drive.data)
        drive.data[600:604] = zlib.crc32(drive.data[1024 : 1024 + 16384]).to_bytes(4, "little")
        drive.data[528:532] = bytes(4)
        drive.data[528:532] = zlib.crc32(drive.data[512:604]).to_bytes(4, "little")

    return forge


def at(offset: int, value: int, size: int = 8) -> Callable[[bytearray], None]:
    return lambda data: data.__setitem__(slice(offset, offset + size), value.to_bytes(size, "little"))


@pytest.mark.parametrize(
    ("spoil", "told"),
    [
        (lambda drive: drive.data.__setitem__(530, drive.data[530] ^ 1), "header_crc32 is"),
        (lambda drive: drive.data.__setitem__(1030, 1), "partition_entry_array_crc32 is"),
        (
            lambda drive: drive.data.__setitem__(-452, drive.data[-452] ^ 1),
            "backup table in sector 131071: header_crc32",
        ),
        (resealed(at(536, 9)), "my_lba is 9"),
        (resealed(at(524, 1 << 31, 4)), "header_size is 2147483648"),
        (resealed(at(592, 1 << 30, 4)), "number_of_partition_entries is"),
        (resealed(at(596, 8, 4)), "size_of_partition_entry is 8"),
        (resealed(at(584, 1 << 62)), "partition_entry_lba is"),
        (resealed(at(1024 + 40, 1 << 60)), "partition 1: sectors 2048 to"),
        (resealed(at(1024 + 40, 10)), "partition 1: sectors 2048 to 10 lie outside"),
        (resealed(at(1152 + 32, 3000)), "partitions 1 and 2 overlap"),
        (resealed(at(1152 + 16, 0xA1 << 56)), "primary and backup list different partitions"),
    ],
)
def test_bad_tables_are_told_of(spoil: Callable[[MemoryDrive], None], told: str) -> None:
    drive = written(512)
    spoil(drive)
    table = read_gpt(drive, 512)
    assert table is not None
    assert any(told in str(fault) for fault in table.faults), table.faults


def test_what_does_not_fit_is_refused() -> None:
    for bad in (
        GptPartition(1, BASIC_DATA, uuid.UUID(int=1), 33, 100),
        GptPartition(1, BASIC_DATA, uuid.UUID(int=1), 2048, 1 << 20),
        GptPartition(1, BASIC_DATA, uuid.UUID(int=1), 2048, 100, name="x" * 37),
    ):
        with pytest.raises(ValueError, match="partition 1"):
            compose_gpt(DISK, [bad], 131_072, 512)


# -- drives built with one -------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def source(tmp_path_factory: pytest.TempPathFactory) -> Source:
    return open_source(small_disc(tmp_path_factory.mktemp("gpt") / "small.iso", filling=6))


@pytest.mark.parametrize(("sector", "size"), [(512, None), (512, 80 * MIB + 512 * 7), (4096, 320 * MIB)])
def test_a_gpt_drive_is_built_checked_and_goes_on_after_power_cuts(
    sector: int, size: int | None, source: Source
) -> None:
    image = compose_drive(make_plan(source, Choices(table="gpt"), DriveShape("crew", size, sector)))
    drive = MemoryDrive(image.size)
    build(image, drive, silent)
    report = check_drive(drive, silent)
    table = read_table(drive, sector)

    assert (report.healthy, report.findings) == (True, [])
    assert {row.firmware: row.verdict for row in report.starts}["UEFI 64-bit"] == "starts"
    assert {row.firmware: row.verdict for row in report.starts}["BIOS"] == "will not start"
    assert table is not None
    assert (table.style, table.faults, len(table.partitions)) == ("gpt", (), 1)
    assert describe(drive, sector).startswith("GPT: FAT32 'TIDEWELL_11'")
    order = [offset for what, offset, size in drive.log if what == "write" and size <= 20_480]
    assert order[-3:] == [image.tables[0][0], sector, 0], "backup, primary, and the seal last"

    counting = FaultyDrive(MemoryDrive(image.size), Faults(volatile_cache=8 * MIB))
    build(image, counting, silent)
    for cut in range(0, counting.operations, 2):
        memory = MemoryDrive(image.size)
        faulty = FaultyDrive(memory, Faults(volatile_cache=8 * MIB), seed=cut)
        faulty.cut_at = cut
        try:
            build(image, faulty, silent)
        except DriveGone:
            assert memory.data[:512] != drive.data[:512] or memory.data == drive.data
            build(image, memory, silent)
        else:
            faulty.close()
        assert memory.data == drive.data


def test_a_gpt_drive_is_updated_as_one(source: Source) -> None:
    choices = Choices(table="gpt", identity="crew")
    drive = MemoryDrive(80 * MIB)
    build(compose_drive(make_plan(source, choices, DriveShape("crew", drive.size))), drive, silent)
    standing = read_standing(drive, 512)
    newer = compose_drive(
        make_plan(
            source,
            Choices(table="gpt", identity="crew", label="CREW"),
            DriveShape("crew", drive.size),
            standing.volumes,
        )
    )
    written = update(newer, drive, standing, silent).bytes_written
    assert 0 < written < 2 * MIB
    report = check_drive(drive, silent)
    assert (report.volumes[0].label, report.healthy) == ("CREW", True)


def test_a_damaged_copy_is_a_fault_of_the_drive(source: Source) -> None:
    image = compose_drive(make_plan(source, Choices(table="gpt"), DriveShape("crew", None)))
    drive = MemoryDrive(image.size)
    build(image, drive, silent)
    drive.data[-100] ^= 1
    report = check_drive(drive, silent)
    assert not report.healthy
    assert {finding.area for finding in report.findings} == {"table"}
    assert any(f"bytes {image.tables[0][0]}-" in finding.what for finding in report.findings)
