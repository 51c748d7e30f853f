"""exFAT's on-disk structures, by the names of the published specification. Offsets in bytes."""

from __future__ import annotations

from collections.abc import Mapping

from ...common.record import Record, raw, record, u8, u16, u32, u64

VolumeTable = Mapping[int, int]
"""UTF-16 units that an up-case table changes, and what they become."""
END_OF_CHAIN = 0xFFFF_FFFF
END_OF_CHAIN_FROM = 0xFFFF_FFF8
BAD_CLUSTER = 0xFFFF_FFF7
"""4.1: entries of the FAT."""
FIRST_CLUSTER = 2
MOST_CLUSTERS = 0xFFFF_FFF5  # 3.1.9
BOOT_SECTORS, EXTENDED_SECTORS, CHECKSUM_SECTOR = 12, 8, 11
"""3: sectors of a boot region; the extended ones among them come behind the first; the last one has the checksum."""
EXTENDED_SIGNATURE = 0xAA55_0000  # 3.2.2
REVISION = 0x0100
ENTRY_SIZE = 32
MOST_NAME = 255
"""7.6.3: UTF-16 units of a name."""
MOST_LABEL = 11
LARGEST_FOLDER = 256 << 20
"""7.4: bytes of a folder."""

END_OF_FOLDER = 0x00
IN_USE, SECONDARY, BENIGN = 0x80, 0x40, 0x20
"""6.2.1: bits of a type."""
BITMAP, UPCASE, LABEL, FILE, STREAM, NAME = 0x81, 0x82, 0x83, 0x85, 0xC0, 0xC1
NO_LABEL = LABEL & ~IN_USE
ALLOCATION_POSSIBLE, NO_FAT_CHAIN = 1, 2
"""6.3.4: bits of GeneralSecondaryFlags."""
READ_ONLY, HIDDEN, SYSTEM, DIRECTORY, ARCHIVE = 1, 2, 4, 0x10, 0x20
VOLUME_DIRTY, MEDIA_FAILURE = 2, 4
"""3.1.13: bits of VolumeFlags."""
UTC = 0x80
"""7.4.10: an offset of no quarters of an hour, which is valid."""


@record(size=512)
class BootSector(Record):
    """Main boot sector (3.1)."""

    JumpBoot: bytes = raw(0, 3, "jump to the code", default=b"\xeb\x76\x90")
    FileSystemName: bytes = raw(3, 8, "EXFAT and blanks", default=b"EXFAT   ")
    MustBeZero: bytes = raw(11, 53, "where FAT has its parameters", default=bytes(53))
    PartitionOffset: int = u64(64, "sectors in front of the volume; 0 = not said")
    VolumeLength: int = u64(72, "sectors of the volume")
    FatOffset: int = u32(80, "first sector of the FAT, from the volume's start")
    FatLength: int = u32(84, "sectors of one FAT")
    ClusterHeapOffset: int = u32(88, "first sector of cluster 2")
    ClusterCount: int = u32(92, "clusters")
    FirstClusterOfRootDirectory: int = u32(96, "cluster")
    VolumeSerialNumber: int = u32(100, "serial number")
    FileSystemRevision: int = u16(104, "1.00", default=REVISION)
    VolumeFlags: int = u16(106, "bit 0: the second FAT counts; 1: written to; 2: the medium failed", default=0)
    BytesPerSectorShift: int = u8(108, "9 to 12")
    SectorsPerClusterShift: int = u8(109, "up to 32 MiB a cluster")
    NumberOfFats: int = u8(110, "1; 2 on TexFAT", default=1)
    DriveSelect: int = u8(111, "80h", default=0x80)
    PercentInUse: int = u8(112, "of the clusters; FFh = not known")
    Reserved: bytes = raw(113, 7, "zero", default=bytes(7))
    BootCode: bytes = raw(120, 390, "boot code", default=b"\xf4" * 390)
    BootSignature: int = u16(510, "AA55h", default=0xAA55)


@record(size=32)
class BitmapEntry(Record):
    """Allocation bitmap (7.1)."""

    EntryType: int = u8(0, "81h", default=BITMAP)
    BitmapFlags: int = u8(1, "bit 0: that of the second FAT", default=0)
    Reserved: bytes = raw(2, 18, "zero", default=bytes(18))
    FirstCluster: int = u32(20, "cluster")
    DataLength: int = u64(24, "bytes")


@record(size=32)
class UpcaseEntry(Record):
    """Up-case table (7.2)."""

    EntryType: int = u8(0, "82h", default=UPCASE)
    Reserved1: bytes = raw(1, 3, "zero", default=bytes(3))
    TableChecksum: int = u32(4, "over the table's bytes")
    Reserved2: bytes = raw(8, 12, "zero", default=bytes(12))
    FirstCluster: int = u32(20, "cluster")
    DataLength: int = u64(24, "bytes")


@record(size=32)
class LabelEntry(Record):
    """Volume label (7.3)."""

    EntryType: int = u8(0, "83h", default=LABEL)
    CharacterCount: int = u8(1, "UTF-16 units, up to 11")
    VolumeLabel: bytes = raw(2, 22, "UTF-16")
    Reserved: bytes = raw(24, 8, "zero", default=bytes(8))


@record(size=32)
class FileEntry(Record):
    """File or folder (7.4), the first of an entry set."""

    EntryType: int = u8(0, "85h", default=FILE)
    SecondaryCount: int = u8(1, "further entries of the set")
    SetChecksum: int = u16(2, "over the set but this field", default=0)
    FileAttributes: int = u16(4, "as on FAT")
    Reserved1: int = u16(6, "0", default=0)
    CreateTimestamp: int = u32(8, "date above, time below, as on FAT")
    LastModifiedTimestamp: int = u32(12, "the same")
    LastAccessedTimestamp: int = u32(16, "the same")
    Create10msIncrement: int = u8(20, "0 to 199", default=0)
    LastModified10msIncrement: int = u8(21, "0 to 199", default=0)
    CreateUtcOffset: int = u8(22, "quarters of an hour, bit 7: valid", default=UTC)
    LastModifiedUtcOffset: int = u8(23, "the same", default=UTC)
    LastAccessedUtcOffset: int = u8(24, "the same", default=UTC)
    Reserved2: bytes = raw(25, 7, "zero", default=bytes(7))


@record(size=32)
class StreamEntry(Record):
    """Stream extension (7.6): where the bytes lie."""

    EntryType: int = u8(0, "C0h", default=STREAM)
    GeneralSecondaryFlags: int = u8(1, "bit 0: may have clusters; 1: they follow each other, no chain is in the FAT")
    Reserved1: int = u8(2, "0", default=0)
    NameLength: int = u8(3, "UTF-16 units")
    NameHash: int = u16(4, "of the name in upper case")
    Reserved2: int = u16(6, "0", default=0)
    ValidDataLength: int = u64(8, "bytes that were written; what comes then reads as zero")
    Reserved3: int = u32(16, "0", default=0)
    FirstCluster: int = u32(20, "cluster; 0 of an empty file")
    DataLength: int = u64(24, "bytes")


@record(size=32)
class NameEntry(Record):
    """File name (7.7): 15 units of it."""

    EntryType: int = u8(0, "C1h", default=NAME)
    GeneralSecondaryFlags: int = u8(1, "0", default=0)
    FileName: bytes = raw(2, 30, "UTF-16")


def boot_checksum(sectors: bytes, sector_size: int) -> int:
    """Return the sum of a boot region (3.4, figure 1) of which `sectors` has the first eleven.

    VolumeFlags and PercentInUse, which change in use, are left out.
    """
    left_out = {BootSector.offset_of("VolumeFlags"), BootSector.offset_of("VolumeFlags") + 1}
    left_out.add(BootSector.offset_of("PercentInUse"))
    total = 0
    for at, byte in enumerate(sectors[: CHECKSUM_SECTOR * sector_size]):
        if at not in left_out:
            total = ((total & 1) << 31 | total >> 1) + byte & 0xFFFF_FFFF
    return total


def table_checksum(data: bytes) -> int:
    """Return the sum of an up-case table (7.2.2, figure 3)."""
    total = 0
    for byte in data:
        total = ((total & 1) << 31 | total >> 1) + byte & 0xFFFF_FFFF
    return total


def set_checksum(entries: bytes | bytearray) -> int:
    """Return the sum of an entry set (6.3.3, figure 2); its own two bytes are left out."""
    total = 0
    for at, byte in enumerate(entries):
        if at not in (2, 3):
            total = ((total & 1) << 15 | total >> 1) + byte & 0xFFFF
    return total


def name_hash(upper: bytes) -> int:
    """Return the hash of a name (7.6.4, figure 4) from its UTF-16 units in upper case."""
    total = 0
    for byte in upper:
        total = ((total & 1) << 15 | total >> 1) + byte & 0xFFFF
    return total
