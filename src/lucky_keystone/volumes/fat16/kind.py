"""FAT12 and FAT16 answer for themselves: see `volumes/kind.py`. Such volumes are read, not composed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, ClassVar
from uuid import UUID

from ...boot.records import BootRecord
from ...content.contents import Readable
from ...tables.partition import OF_FAT
from .records import BootSector16

if TYPE_CHECKING:
    from .read import Fat16Volume


class Fat16:
    """FAT12 and FAT16, which all firmware reads."""

    name: ClassVar[str] = "fat16"
    shown: ClassVar[str] = "FAT12/16"
    firmware_reads: ClassVar[bool] = True
    names_loaders: ClassVar[bool] = False
    head: ClassVar[tuple[int, str]] = (0, "boot sector")
    partition_types: ClassVar[frozenset[int | UUID]] = OF_FAT
    boot_record: ClassVar[BootRecord | None] = None
    checked_with: ClassVar[str] = "'fsck.fat -a' (Linux) or 'chkdsk /f' (Windows) on it"

    def recognises(self, drive: Readable, offset: int, size: int) -> bool:
        if size < BootSector16.SIZE:
            return False
        boot = BootSector16.unpack(drive.read_at(offset, BootSector16.SIZE))
        per_cluster = boot.BPB_SecPerClus
        return (
            boot.signature == 0xAA55
            and boot.BPB_BytsPerSec in (512, 1024, 2048, 4096)
            and per_cluster > 0
            and per_cluster & (per_cluster - 1) == 0
            and boot.BPB_RsvdSecCnt > 0
            and boot.BPB_NumFATs in (1, 2)
            and boot.BPB_RootEntCnt > 0
            and boot.BPB_FATSz16 > 0
            and 0 < boot.total_sectors * boot.BPB_BytsPerSec <= size
        )

    def head_copy(self, drive: Readable, offset: int, size: int) -> int | None:
        return None  # FAT12 and FAT16 have none

    def fitted(self, drive: Readable, offset: int, size: int) -> Sequence[tuple[int, bytes]]:
        return ()

    def sector_size_at(self, drive: Readable, offset: int) -> int:
        return BootSector16.unpack(drive.read_at(offset, BootSector16.SIZE)).BPB_BytsPerSec

    def own_span(self, volume: Fat16Volume) -> tuple[int, int]:
        return volume.boot.BPB_HiddSec, volume.boot.total_sectors

    def open(self, drive: Readable, offset: int, size: int) -> Fat16Volume:
        from .read import Fat16Volume

        return Fat16Volume(drive, offset, size)


FAT16 = Fat16()
