"""The GUID partition table (UEFI 2.10, 5.3): compose and read, primary and backup.

sector 0        protective MBR (5.2.3): one partition of type EEh over the whole drive
sector 1        primary header; its entries follow in sector 2 and up: 128 of 128 bytes, 16 KiB
last sectors    the backup's entries, and in the very last sector its header
"""

from __future__ import annotations

import uuid
import zlib
from collections.abc import Sequence
from itertools import pairwise

from msgspec import Struct

from ..common.record import Record, RecordError, raw, record, u32, u64
from ..content.contents import SizedReadable
from .faults import TableFault
from .mbr import MasterBootRecord, MbrEntry

SIGNATURE = b"EFI PART"
REVISION = 0x0001_0000
ENTRY_COUNT, ENTRY_SIZE = 128, 128
ENTRIES_SIZE = ENTRY_COUNT * ENTRY_SIZE
"""Bytes kept for entries (5.3.1: at least 16,384)."""

TYPE_PROTECTIVE = 0xEE
BASIC_DATA = uuid.UUID("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7")
SYSTEM = uuid.UUID("C12A7328-F81F-11D2-BA4B-00A0C93EC93B")
HFS_PLUS = uuid.UUID("48465300-0000-11AA-AA11-00306543ECAC")
"""Type of an HFS+ partition (TN2166, "Partition Types")."""
NO_DRIVE_LETTER = 1 << 63
"""Attribute of a basic-data partition."""

LEGACY_BOOT = 1 << 2
"""Attribute for firmware that goes by marks (UEFI 2.10, 5.3.3, table 5.8: Legacy BIOS Bootable); UEFI does not."""

_MOST_ENTRIES = 1024


@record(size=92)
class GptHeader(Record):
    """UEFI 2.10, 5.3.2, table 5.5. The rest of its sector is zero."""

    signature: bytes = raw(0x00, 8, "'EFI PART'", default=SIGNATURE)
    revision: int = u32(0x08, "", default=REVISION)
    header_size: int = u32(0x0C, "bytes", default=92)
    header_crc32: int = u32(0x10, "of header_size bytes, itself taken as 0", default=0)
    reserved: int = u32(0x14, "", default=0)
    my_lba: int = u64(0x18, "sector of this header")
    alternate_lba: int = u64(0x20, "sector of the other header")
    first_usable_lba: int = u64(0x28, "sector")
    last_usable_lba: int = u64(0x30, "sector, inclusive")
    disk_guid: bytes = raw(0x38, 16, "mixed-endian GUID")
    partition_entry_lba: int = u64(0x48, "first sector of the entries")
    number_of_partition_entries: int = u32(0x50, "", default=ENTRY_COUNT)
    size_of_partition_entry: int = u32(0x54, "bytes", default=ENTRY_SIZE)
    partition_entry_array_crc32: int = u32(0x58, "of all entries")


@record(size=128)
class GptEntry(Record):
    """UEFI 2.10, 5.3.3, table 5.6."""

    partition_type_guid: bytes = raw(0x00, 16, "mixed-endian GUID; zero = not used", default=bytes(16))
    unique_partition_guid: bytes = raw(0x10, 16, "mixed-endian GUID", default=bytes(16))
    starting_lba: int = u64(0x20, "sector", default=0)
    ending_lba: int = u64(0x28, "sector, inclusive", default=0)
    attributes: int = u64(0x30, "bits", default=0)
    partition_name: bytes = raw(0x38, 72, "UTF-16LE, ended or filled with zeros", default=bytes(72))


class GptPartition(Struct, frozen=True):
    """A used entry."""

    number: int
    kind: uuid.UUID
    unique: uuid.UUID
    first_lba: int
    sector_count: int
    attributes: int = 0
    name: str = ""


class GptParts(Struct, frozen=True):
    """A composed table: what goes where, in bytes of the drive."""

    protective: bytes
    primary_offset: int
    primary: bytes
    """Header sector and entries."""
    backup_offset: int
    backup: bytes
    """Entries and header sector."""


def entry_sectors(sector_size: int) -> int:
    """Sectors that the entries take."""
    return -(-ENTRIES_SIZE // sector_size)


def usable(drive_sectors: int, sector_size: int) -> tuple[int, int]:
    """Return the first sector that partitions may use, and the first one behind them."""
    around = entry_sectors(sector_size)
    return 2 + around, drive_sectors - 1 - around


def compose_gpt(
    disk: uuid.UUID,
    partitions: Sequence[GptPartition],
    drive_sectors: int,
    sector_size: int,
    *,
    code: bytes = b"",
    signature: int = 0,
) -> GptParts:
    """Return the table of a drive. `code` and `signature` are in the protective MBR.

    Raises ValueError for what does not fit.
    """
    first, end = usable(drive_sectors, sector_size)
    entries = bytearray(ENTRIES_SIZE)
    for partition in partitions:
        if partition.first_lba < first or partition.first_lba + partition.sector_count > end:
            raise ValueError(f"partition {partition.number} lies outside sectors {first} to {end - 1}")
        name = partition.name.encode("utf-16-le")
        if len(name) > 72:
            raise ValueError(
                f"the name of partition {partition.number} has {len(name) // 2} units, at most 36 are allowed"
            )
        entry = GptEntry(
            partition_type_guid=partition.kind.bytes_le,
            unique_partition_guid=partition.unique.bytes_le,
            starting_lba=partition.first_lba,
            ending_lba=partition.first_lba + partition.sector_count - 1,
            attributes=partition.attributes,
            partition_name=name.ljust(72, b"\0"),
        )
        entries[(partition.number - 1) * ENTRY_SIZE : partition.number * ENTRY_SIZE] = entry.pack()
    whole = bytes(entries).ljust(entry_sectors(sector_size) * sector_size, b"\0")
    last = drive_sectors - 1

    def header(my: int, other: int, entry_lba: int) -> bytes:
        bare = GptHeader(
            my_lba=my,
            alternate_lba=other,
            first_usable_lba=first,
            last_usable_lba=end - 1,
            disk_guid=disk.bytes_le,
            partition_entry_lba=entry_lba,
            partition_entry_array_crc32=zlib.crc32(entries),
        )
        return header_sector(bare, sector_size)

    return GptParts(
        protective=_protective(drive_sectors, sector_size, code, signature),
        primary_offset=sector_size,
        primary=header(1, last, 2) + whole,
        backup_offset=end * sector_size,
        backup=whole + header(last, 1, end),
    )


def header_sector(header: GptHeader, sector_size: int) -> bytes:
    """Return a header's sector, with its sum; of one that is longer than 92 bytes (5.3.2) no more is kept."""
    bare = header.with_changes(header_size=GptHeader.SIZE, header_crc32=0).pack()
    return (bare[:16] + zlib.crc32(bare).to_bytes(4, "little") + bare[20:]).ljust(sector_size, b"\0")


def protective_entry(drive_sectors: int) -> MbrEntry:
    """UEFI 2.10, 5.2.3, table 5.4: CHS 000200h to FFFFFFh, all sectors behind the first as far as 32 bits say."""
    return MbrEntry(
        first_chs=b"\x00\x02\x00",
        type=TYPE_PROTECTIVE,
        last_chs=b"\xff\xff\xff",
        first_lba=1,
        sector_count=min(drive_sectors - 1, 0xFFFF_FFFF),
    )


def _protective(drive_sectors: int, sector_size: int, code: bytes, signature: int) -> bytes:
    sector = MasterBootRecord(
        code=code.ljust(440, b"\0"),
        disk_signature=signature,
        entries=protective_entry(drive_sectors).pack() + bytes(48),
    ).pack()
    return sector.ljust(sector_size, b"\0")


# -- reading ---------------------------------------------------------------------------------------------------------


class GptTable(Struct, frozen=True):
    """What the two copies say.

    `faults` lists what is wrong, in words; the partitions are those of the first sound copy.
    """

    disk: uuid.UUID
    partitions: tuple[GptPartition, ...]
    faults: tuple[TableFault, ...]
    sound_copies: int


class GptCopy(Struct, frozen=True):
    """One copy of a table, which is sound by its own sums."""

    header: GptHeader
    entries: bytes
    """All of them, as they are stored."""

    def spans(self) -> list[tuple[int, int, int]]:
        """Return (number, first sector, sector behind it) of each entry that is used."""
        return [(p.number, p.first_lba, p.first_lba + p.sector_count) for p in _partitions(self.header, self.entries)]

    def with_entries(self, entries: bytes) -> GptCopy:
        """Return a copy with other entries, of the same number and size."""
        return GptCopy(self.header.with_changes(partition_entry_array_crc32=zlib.crc32(entries)), entries)


def copy_at(drive: SizedReadable, sector_size: int, lba: int) -> GptCopy | None:
    """Return the copy whose header lies in a sector; None where there is none that is sound."""
    if lba <= 0 or (lba + 1) * sector_size > drive.size:
        return None
    try:
        return GptCopy(*_copy(drive, drive.read_at(lba * sector_size, sector_size), sector_size, lba, None))
    except RecordError:
        return None


def read_gpt(drive: SizedReadable, sector_size: int, *, primary_only: bool = False) -> GptTable | None:
    """Read both copies of a drive's table; None when there is neither.

    A protective record is the caller's to look for. `primary_only` leaves the copy at the end alone.
    """
    last = drive.size // sector_size - 1
    faults: list[TableFault] = []
    copies: list[tuple[GptHeader, bytes]] = []
    there = 0

    def look(name: str, lba: int, other: int | None) -> None:
        nonlocal there
        if lba <= 0 or (lba + 1) * sector_size > drive.size:
            return
        head = drive.read_at(lba * sector_size, sector_size)
        there += head[:8] == SIGNATURE
        try:
            copies.append(_copy(drive, head, sector_size, lba, other))
        except RecordError as error:
            faults.append(TableFault(f"gpt.{name}", f"{name} table in sector {lba}: {error}"))

    look("primary", 1, None)
    if not primary_only:
        backup = copies[0][0].alternate_lba if copies else last
        if backup != last and 1 < backup < last:
            what = f"the GPT's copy lies in sector {backup}, not in the drive's last one, {last}"
            faults.append(TableFault("gpt.copy-not-at-end", what))
        else:
            backup = last
        look("backup", backup, 1)
    if not copies:
        return GptTable(uuid.UUID(int=0), (), tuple(faults), 0) if there else None
    if len(copies) == 2:
        faults += _differences(*copies)
    header, entries = copies[0]
    partitions = tuple(_partitions(header, entries))
    faults += _misplaced(partitions, header)
    return GptTable(uuid.UUID(bytes_le=header.disk_guid), partitions, tuple(faults), len(copies))


def _copy(drive: SizedReadable, head: bytes, sector_size: int, lba: int, other: int | None) -> tuple[GptHeader, bytes]:
    """Return a sound header and its entries; raise RecordError naming the first field that is not.

    `other` is where the other copy has to be, None for anywhere.
    """
    header = GptHeader.unpack(head)

    def require(holds: bool, field: str, found: object) -> None:
        if not holds:
            raise RecordError(f"{field} is {found}")

    require(header.signature == SIGNATURE, "signature", header.signature.hex())
    require(92 <= header.header_size <= sector_size, "header_size", header.header_size)
    computed = zlib.crc32(head[:16] + bytes(4) + head[20 : header.header_size])
    require(header.header_crc32 == computed, "header_crc32", f"{header.header_crc32:08X}, computed {computed:08X}")
    require(header.my_lba == lba, "my_lba", header.my_lba)
    require(other is None or header.alternate_lba == other, "alternate_lba", header.alternate_lba)
    size = header.size_of_partition_entry
    require(size >= ENTRY_SIZE and size & (size - 1) == 0 and size <= 4096, "size_of_partition_entry", size)
    require(
        header.number_of_partition_entries <= _MOST_ENTRIES,
        "number_of_partition_entries",
        header.number_of_partition_entries,
    )
    start, length = header.partition_entry_lba * sector_size, header.number_of_partition_entries * size
    require(start > 0 and start + length <= drive.size, "partition_entry_lba", header.partition_entry_lba)
    entries = drive.read_at(start, length)
    computed = zlib.crc32(entries)
    found = header.partition_entry_array_crc32
    require(found == computed, "partition_entry_array_crc32", f"{found:08X}, computed {computed:08X}")
    return header, entries


def _differences(primary: tuple[GptHeader, bytes], backup: tuple[GptHeader, bytes]) -> list[TableFault]:
    same = (
        "disk_guid",
        "first_usable_lba",
        "last_usable_lba",
        "number_of_partition_entries",
        "size_of_partition_entry",
    )
    faults = [
        TableFault("gpt.copies-differ", f"primary and backup differ in {name}")
        for name in same
        if getattr(primary[0], name) != getattr(backup[0], name)
    ]
    if primary[1] != backup[1]:
        faults.append(TableFault("gpt.copies-differ", "primary and backup list different partitions"))
    return faults


def _partitions(header: GptHeader, entries: bytes) -> list[GptPartition]:
    found = []
    for number in range(header.number_of_partition_entries):
        entry = GptEntry.unpack(entries, number * header.size_of_partition_entry)
        if not any(entry.partition_type_guid):
            continue
        found.append(
            GptPartition(
                number=number + 1,
                kind=uuid.UUID(bytes_le=entry.partition_type_guid),
                unique=uuid.UUID(bytes_le=entry.unique_partition_guid),
                first_lba=entry.starting_lba,
                sector_count=entry.ending_lba - entry.starting_lba + 1,
                attributes=entry.attributes,
                name=entry.partition_name.decode("utf-16-le", "replace").split("\0", 1)[0],
            )
        )
    return found


def _misplaced(partitions: Sequence[GptPartition], header: GptHeader) -> list[TableFault]:
    faults = [
        TableFault(
            "gpt.range",
            f"partition {partition.number}: sectors {partition.first_lba} to "
            f"{partition.first_lba + partition.sector_count - 1} lie outside "
            f"{header.first_usable_lba} to {header.last_usable_lba}",
            partition.number,
        )
        for partition in partitions
        if partition.sector_count <= 0
        or partition.first_lba < header.first_usable_lba
        or partition.first_lba + partition.sector_count - 1 > header.last_usable_lba
    ]
    ordered = sorted(partitions, key=lambda partition: partition.first_lba)
    faults += [
        TableFault("gpt.overlap", f"partitions {before.number} and {after.number} overlap", after.number)
        for before, after in pairwise(ordered)
        if before.first_lba + before.sector_count > after.first_lba
    ]
    same = TableFault("gpt.same-guid", "two partitions have the same GUID")
    seen = [partition.unique for partition in partitions]
    return faults + ([same] if len(set(seen)) < len(seen) else [])
