"""What a partition is for, and what each kind of table calls that."""

from __future__ import annotations

from enum import Enum
from uuid import UUID

from msgspec import Struct

from .gpt import BASIC_DATA, HFS_PLUS, NO_DRIVE_LETTER, SYSTEM
from .mbr import TYPE_FAT32_LBA, TYPE_HFS, TYPE_NTFS, TYPE_SYSTEM


class PartitionType(Struct, frozen=True):
    """The type of a partition in either table."""

    mbr: int
    gpt: UUID
    gpt_shown: str
    attributes: int = 0
    """Of the GPT entry (UEFI 2.10, 5.3.3, table 5.8)."""


class Use(Enum):
    """What a partition is for; the tables turn it into their types."""

    FAT_DATA = PartitionType(TYPE_FAT32_LBA, BASIC_DATA, "basic data")
    IFS_DATA = PartitionType(TYPE_NTFS, BASIC_DATA, "basic data")
    """NTFS or exFAT: a table has one type for both."""

    FIRMWARE = PartitionType(TYPE_SYSTEM, BASIC_DATA, "basic data, no letter", NO_DRIVE_LETTER)
    """Read by firmware only. On a GPT basic data all the same: on removable drives firmware looks there for loaders."""

    EFI_SYSTEM = PartitionType(TYPE_SYSTEM, SYSTEM, "system")
    """A UEFI system partition (UEFI 2.10, 13.3.3), which a Mac's drive begins with."""
    HFS = PartitionType(TYPE_HFS, HFS_PLUS, "Apple HFS+")


MBR_TYPES_OF_VOLUMES = frozenset({use.value.mbr for use in Use} | {0x01, 0x04, 0x06, 0x0B, 0x0E})
"""Types that stand for a file system read here: those above, and FAT of other sizes or with CHS addresses."""
GPT_TYPES_OF_VOLUMES = frozenset({use.value.gpt for use in Use} | {SYSTEM})


OF_FAT: frozenset[int | UUID] = frozenset((0x01, 0x04, 0x06, 0x0B, 0x0C, 0x0E, TYPE_SYSTEM, BASIC_DATA, SYSTEM))
"""Types of partitions that systems look for FAT in, of whatever size, and mount."""
OF_FAT32: frozenset[int | UUID] = frozenset((0x0B, TYPE_FAT32_LBA, TYPE_SYSTEM, BASIC_DATA, SYSTEM))
OF_EXFAT: frozenset[int | UUID] = frozenset((TYPE_NTFS, BASIC_DATA))
OF_NTFS: frozenset[int | UUID] = frozenset((TYPE_NTFS, BASIC_DATA))
OF_HFS_PLUS: frozenset[int | UUID] = frozenset((TYPE_HFS, HFS_PLUS))


class WantedPartition(Struct, frozen=True):
    """A partition that a table is to name. Sectors."""

    number: int
    use: Use
    active: bool
    """Active in an MBR; in a GPT it gets the legacy-boot attribute."""
    first_lba: int
    sector_count: int
    unique: UUID
    """Its own GUID, for a GPT."""
    name: str
    """Its name, for a GPT."""
