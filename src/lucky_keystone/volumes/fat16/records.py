"""What FAT12 and FAT16 have other than FAT32 (fatgen103)."""

from __future__ import annotations

from ...common.record import Record, raw, record, u8, u16, u32

MOST_CLUSTERS_FAT12, MOST_CLUSTERS_FAT16 = 4084, 65_524
"""fatgen103, "FAT Type Determination": the cluster count alone decides the type."""


@record(size=512)
class BootSector16(Record):
    """Boot sector with BPB (fatgen103, "Boot Sector and BPB Structure", for FAT12 and FAT16)."""

    BS_jmpBoot: bytes = raw(0, 3, "jump to the code")
    BS_OEMName: bytes = raw(3, 8, "maker")
    BPB_BytsPerSec: int = u16(11, "bytes per sector (512, 1024, 2048, 4096)")
    BPB_SecPerClus: int = u8(13, "sectors per cluster, a power of two")
    BPB_RsvdSecCnt: int = u16(14, "sectors in front of the first FAT")
    BPB_NumFATs: int = u8(16, "copies of the FAT")
    BPB_RootEntCnt: int = u16(17, "entries of the root folder")
    BPB_TotSec16: int = u16(19, "sectors of the volume; 0: see BPB_TotSec32")
    BPB_Media: int = u8(21, "F0h = removable, F8h = fixed")
    BPB_FATSz16: int = u16(22, "sectors of one FAT")
    BPB_SecPerTrk: int = u16(24, "geometry for INT 13h")
    BPB_NumHeads: int = u16(26, "geometry for INT 13h")
    BPB_HiddSec: int = u32(28, "first sector of the partition on the drive")
    BPB_TotSec32: int = u32(32, "sectors of the volume where 16 bits are too few")
    BS_DrvNum: int = u8(36, "00h or 80h")
    BS_Reserved1: int = u8(37, "bit 0: a host has it mounted")
    BS_BootSig: int = u8(38, "29h: the next three fields are there")
    BS_VolID: int = u32(39, "volume serial number")
    BS_VolLab: bytes = raw(43, 11, "label, padded with blanks")
    BS_FilSysType: bytes = raw(54, 8, "for people")
    code: bytes = raw(62, 448, "boot code")
    signature: int = u16(510, "AA55h")

    @property
    def total_sectors(self) -> int:
        return self.BPB_TotSec16 or self.BPB_TotSec32
