"""The MBR partition table (UEFI 2.10, 5.2.1 "Legacy MBR"): compose and read."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

from msgspec import Struct

from ..common.record import Record, raw, record, u8, u16, u32
from .faults import TableFault

ACTIVE = 0x80
TYPE_FAT32_LBA = 0x0C
TYPE_NTFS = 0x07
TYPE_SYSTEM = 0xEF
"""A volume that UEFI firmware starts from (UEFI 2.10, 5.2.2)."""
TYPE_HFS = 0xAF
TYPES_SHOWN = {
    TYPE_NTFS: "NTFS or exFAT",
    0x0B: "FAT32",
    TYPE_FAT32_LBA: "FAT32",
    0x82: "Linux swap",
    0x83: "Linux",
    TYPE_HFS: "HFS+",
    0xEE: "GPT",
    TYPE_SYSTEM: "UEFI system",
}
"""What a partition is for by its type, in words."""
SIGNATURE = 0xAA55

HEADS, SECTORS_PER_TRACK = 255, 63
"""Geometry that firmware reports for drives above 8 GB; CHS fields follow it."""

MOST_SECTORS = 1 << 32
"""Sectors that an MBR can name; of a drive of more the rest stays unused."""


@record(size=16)
class MbrEntry(Record):
    """One of the four partition entries."""

    status: int = u8(0, "80h active, 0 not", default=0)
    first_chs: bytes = raw(1, 3, "head, sector and cylinder bits, cylinder", default=bytes(3))
    type: int = u8(4, "0 = unused", default=0)
    last_chs: bytes = raw(5, 3, "as first_chs, inclusive", default=bytes(3))
    first_lba: int = u32(8, "sectors", default=0)
    sector_count: int = u32(12, "sectors", default=0)


@record(size=512)
class MasterBootRecord(Record):
    """Sector 0 (its first 512 bytes where sectors are larger)."""

    code: bytes = raw(0, 440, "boot code")
    disk_signature: int = u32(440, "never 0, never the same on two drives")
    reserved: int = u16(444, "", default=0)
    entries: bytes = raw(446, 64, "four MbrEntry")
    signature: int = u16(510, "AA55h", default=SIGNATURE)


class MbrPartition(Struct, frozen=True):
    """A used entry of the table."""

    number: int
    """1 to 4."""
    active: bool
    type: int
    first_lba: int
    sector_count: int


_NOWHERE = (b"\xfe\xff\xff", b"\xff\xff\xff")


def chs(lba: int, heads: int = HEADS, sectors: int = SECTORS_PER_TRACK) -> bytes:
    """Return the three CHS bytes of a sector; FE FF FF where the cylinder is beyond 1023."""
    cylinder, rest = divmod(lba, heads * sectors)
    if cylinder > 1023:
        return b"\xfe\xff\xff"
    head, sector = divmod(rest, sectors)
    return bytes((head, (sector + 1) | (cylinder >> 2 & 0xC0), cylinder & 0xFF))


def compose_mbr(code: bytes, disk_signature: int, partitions: Sequence[MbrPartition], sector_size: int) -> bytes:
    """Return sector 0 (`sector_size` bytes) with boot code of up to 440 bytes and the given partitions."""
    entries = [MbrEntry()] * 4
    for partition in partitions:
        last = partition.first_lba + partition.sector_count - 1
        if last >= MOST_SECTORS:
            raise ValueError(f"partition {partition.number} ends at sector {last}, beyond what an MBR can say")
        entries[partition.number - 1] = MbrEntry(
            status=ACTIVE if partition.active else 0,
            first_chs=chs(partition.first_lba),
            type=partition.type,
            last_chs=chs(last),
            first_lba=partition.first_lba,
            sector_count=partition.sector_count,
        )
    sector = MasterBootRecord(
        code=code.ljust(440, b"\0"),
        disk_signature=disk_signature,
        entries=b"".join(entry.pack() for entry in entries),
    ).pack()
    return sector.ljust(sector_size, b"\0")


class MbrTable(Struct, frozen=True):
    """What a sector 0 says. `faults` lists what is wrong with it, in words."""

    code: bytes
    disk_signature: int
    partitions: tuple[MbrPartition, ...]
    faults: tuple[TableFault, ...]


def read_mbr(sector: bytes, drive_sectors: int) -> MbrTable | None:
    """Read sector 0 of a drive of `drive_sectors`; None when it carries no table at all (no AA55h)."""
    record = MasterBootRecord.unpack(sector)
    if record.signature != SIGNATURE:
        return None
    partitions: list[MbrPartition] = []
    faults: list[TableFault] = []
    for number in range(1, 5):
        entry = MbrEntry.unpack(record.entries, 16 * (number - 1))
        if entry.status not in (0, ACTIVE):
            faults.append(
                TableFault("mbr.status", f"entry {number}: status is {entry.status:02X}h, neither 80h nor 00h", number)
            )
        if entry.type == 0:
            continue
        partition = MbrPartition(number, entry.status == ACTIVE, entry.type, entry.first_lba, entry.sector_count)
        partitions.append(partition)
        faults += _faults_of(partition, entry, drive_sectors)
    faults += _overlaps(partitions)
    return MbrTable(record.code, record.disk_signature, tuple(partitions), tuple(faults))


def _faults_of(partition: MbrPartition, entry: MbrEntry, drive_sectors: int) -> list[TableFault]:
    faults: list[TableFault] = []
    end = partition.first_lba + partition.sector_count
    number, name = partition.number, f"partition {partition.number}"
    if partition.first_lba == 0 or partition.sector_count == 0:
        what = f"{name}: starts at sector {partition.first_lba} with {partition.sector_count} sectors"
        faults.append(TableFault("mbr.range", what, number))
    elif end > drive_sectors:
        faults.append(TableFault("mbr.range", f"{name}: ends at sector {end}, the drive has {drive_sectors}", number))
    elif partition.type != 0xEE and not _chs_agree(entry, partition.first_lba, end - 1):
        faults.append(TableFault("mbr.chs", f"{name}: its CHS fields do not agree with its sectors", number))
    return faults


def _chs_agree(entry: MbrEntry, first: int, last: int) -> bool:
    """Tell whether CHS fields stand for these sectors, by our geometry or another one that a maker may have used.

    Fields that say nothing (UEFI 2.10, 5.2.1: all bits set; FE FF FF in practice) agree with any sector.
    """
    usual = (entry.first_chs, entry.last_chs) == (chs(first), chs(last))
    return usual or any(
        all(
            field in _NOWHERE or field == chs(lba, heads, sectors)
            for field, lba in ((entry.first_chs, first), (entry.last_chs, last))
        )
        for sectors in (63, 32, 16, 17, 18, 31, 62)
        for heads in range(1, 256)
    )


def _overlaps(partitions: Sequence[MbrPartition]) -> list[TableFault]:
    ordered = sorted(partitions, key=lambda partition: partition.first_lba)
    return [
        TableFault("mbr.overlap", f"partitions {before.number} and {after.number} overlap", after.number)
        for before, after in pairwise(ordered)
        if before.first_lba + before.sector_count > after.first_lba
    ]
