"""FAT32's on-disk structures, by the names of the published specification (fatgen103). Offsets in bytes."""

from __future__ import annotations

from ...common.record import Record, raw, record, u8, u16, u32

END_OF_CHAIN = 0x0FFF_FFFF
END_OF_CHAIN_FROM = 0x0FFF_FFF8
"""fatgen103, "FAT[]": every entry from here on ends a chain."""
ENTRY_MASK = 0x0FFF_FFFF
BAD_CLUSTER = 0x0FFF_FFF7
FEWEST_CLUSTERS = 65_525
"""fatgen103, "FAT Type Determination": the cluster count alone decides the type; fewer is FAT16 or FAT12."""
MOST_CLUSTERS = 0x0FFF_FFF5
FIRST_CLUSTER = 2

ATTR_VOLUME_ID, ATTR_DIRECTORY, ATTR_ARCHIVE = 8, 0x10, 0x20
ATTR_LONG_NAME = 0x0F
DELETED, END_OF_FOLDER = 0xE5, 0x00
LAST_LONG_ENTRY = 0x40
ENTRY_SIZE = 32
MOST_FOLDER_ENTRIES = 65_536

BACKUP_BOOT_SECTOR, FSINFO_SECTOR, FURTHER_CODE_SECTOR = 6, 1, 12
"""Reserved sectors by custom: 0-2 and their backup 6-8; boot code beyond the first sector from 12."""


@record(size=512)
class BootSector(Record):
    """Boot sector with BPB (fatgen103, "Boot Sector and BPB Structure")."""

    BS_jmpBoot: bytes = raw(0, 3, "jump to the code", default=b"\xeb\x58\x90")
    BS_OEMName: bytes = raw(3, 8, "maker", default=b"LKEYSTON")
    BPB_BytsPerSec: int = u16(11, "bytes per sector (512, 1024, 2048, 4096)")
    BPB_SecPerClus: int = u8(13, "sectors per cluster, a power of two")
    BPB_RsvdSecCnt: int = u16(14, "sectors in front of the first FAT")
    BPB_NumFATs: int = u8(16, "copies of the FAT", default=2)
    BPB_RootEntCnt: int = u16(17, "0 on FAT32", default=0)
    BPB_TotSec16: int = u16(19, "0 on FAT32", default=0)
    BPB_Media: int = u8(21, "F8h = fixed", default=0xF8)
    BPB_FATSz16: int = u16(22, "0 on FAT32", default=0)
    BPB_SecPerTrk: int = u16(24, "geometry for INT 13h", default=63)
    BPB_NumHeads: int = u16(26, "geometry for INT 13h", default=255)
    BPB_HiddSec: int = u32(28, "first sector of the partition on the drive")
    BPB_TotSec32: int = u32(32, "sectors of the volume")
    BPB_FATSz32: int = u32(36, "sectors of one FAT")
    BPB_ExtFlags: int = u16(40, "0 = all FATs mirrored", default=0)
    BPB_FSVer: int = u16(42, "0", default=0)
    BPB_RootClus: int = u32(44, "first cluster of the root folder", default=2)
    BPB_FSInfo: int = u16(48, "sector of FSInfo", default=FSINFO_SECTOR)
    BPB_BkBootSec: int = u16(50, "sector of the backup boot sector", default=BACKUP_BOOT_SECTOR)
    BPB_Reserved: bytes = raw(52, 12, "zero", default=bytes(12))
    BS_DrvNum: int = u8(64, "80h", default=0x80)
    BS_Reserved1: int = u8(65, "bit 0: a host has it mounted", default=0)
    BS_BootSig: int = u8(66, "29h: the next three fields are there", default=0x29)
    BS_VolID: int = u32(67, "volume serial number")
    BS_VolLab: bytes = raw(71, 11, "label, padded with blanks")
    BS_FilSysType: bytes = raw(82, 8, "FAT32 and blanks", default=b"FAT32   ")
    code: bytes = raw(90, 420, "boot code", default=bytes(420))
    signature: int = u16(510, "AA55h", default=0xAA55)


@record(size=512)
class FsInfo(Record):
    """FSInfo sector (fatgen103, "FAT32 FSInfo Sector Structure")."""

    FSI_LeadSig: int = u32(0, "41615252h", default=0x41615252)
    FSI_Reserved1: bytes = raw(4, 480, "zero", default=bytes(480))
    FSI_StrucSig: int = u32(484, "61417272h", default=0x61417272)
    FSI_Free_Count: int = u32(488, "free clusters; FFFFFFFFh = not known")
    FSI_Nxt_Free: int = u32(492, "where to look for a free cluster first")
    FSI_Reserved2: bytes = raw(496, 12, "zero", default=bytes(12))
    FSI_TrailSig: int = u32(508, "AA550000h", default=0xAA550000)


@record(size=32)
class DirEntry(Record):
    """Short folder entry (fatgen103, "FAT 32 Byte Directory Entry Structure")."""

    DIR_Name: bytes = raw(0, 11, "8 + 3 characters, padded with blanks")
    DIR_Attr: int = u8(11, "ATTR_ bits")
    DIR_NTRes: int = u8(12, "0", default=0)
    DIR_CrtTimeTenth: int = u8(13, "hundredths of a second, 0-199", default=0)
    DIR_CrtTime: int = u16(14, "FAT time", default=0)
    DIR_CrtDate: int = u16(16, "FAT date", default=0)
    DIR_LstAccDate: int = u16(18, "FAT date", default=0)
    DIR_FstClusHI: int = u16(20, "high half of the first cluster", default=0)
    DIR_WrtTime: int = u16(22, "FAT time", default=0)
    DIR_WrtDate: int = u16(24, "FAT date", default=0)
    DIR_FstClusLO: int = u16(26, "low half of the first cluster", default=0)
    DIR_FileSize: int = u32(28, "bytes; 0 for folders", default=0)

    @property
    def first_cluster(self) -> int:
        """The first cluster; 0 for an empty file and for '..' of a folder in the root."""
        return self.DIR_FstClusHI << 16 | self.DIR_FstClusLO


@record(size=32)
class LongEntry(Record):
    """Long-name entry (fatgen103, "FAT Long Directory Entries"); 13 UTF-16 units of the name."""

    LDIR_Ord: int = u8(0, "number from 1, 40h added in the last (which comes first)")
    LDIR_Name1: bytes = raw(1, 10, "units 1-5")
    LDIR_Attr: int = u8(11, "0Fh", default=ATTR_LONG_NAME)
    LDIR_Type: int = u8(12, "0", default=0)
    LDIR_Chksum: int = u8(13, "checksum of the short name")
    LDIR_Name2: bytes = raw(14, 12, "units 6-11")
    LDIR_FstClusLO: int = u16(26, "0", default=0)
    LDIR_Name3: bytes = raw(28, 4, "units 12-13")


def short_name_checksum(name: bytes) -> int:
    """Return the checksum of an 11-byte short name (fatgen103, "ChkSum")."""
    total = 0
    for byte in name:
        total = ((total & 1) << 7 | total >> 1) + byte & 0xFF
    return total
