"""FAT32 answers for itself: see `volumes/kind.py`.

What composes and reads one is loaded when there is one to be made or read.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, ClassVar
from uuid import UUID

from ...boot.records import FAT32_RECORD, BootRecord
from ...content.contents import Readable
from ...content.tree import Folder
from ...tables.mbr import MOST_SECTORS
from ...tables.partition import OF_FAT32, Use
from ..kind import Draft, PlannedVolume, StandingVolume
from .geometry import Geometry, check_cluster_size, default_cluster_size
from .records import BACKUP_BOOT_SECTOR, BootSector

if TYPE_CHECKING:
    from .read import Fat32Volume


LARGEST_FILE = 0xFFFF_FFFF
"""Bytes (fatgen103, "DIR_FileSize": 32 bits)."""


class Fat32:
    """FAT32, as firmware of both kinds reads it."""

    name: ClassVar[str] = "fat32"
    shown: ClassVar[str] = "FAT32"
    serial_size: ClassVar[int] = 4
    use: ClassVar[Use] = Use.FAT_DATA
    firmware_reads: ClassVar[bool] = True
    names_loaders: ClassVar[bool] = False
    head: ClassVar[tuple[int, str]] = (0, "boot sector")
    partition_types: ClassVar[frozenset[int | UUID]] = OF_FAT32
    boot_record: ClassVar[BootRecord | None] = FAT32_RECORD
    checked_with: ClassVar[str] = "'fsck.fat -a' (Linux) or 'chkdsk /f' (Windows) on it"
    label_rule: ClassVar[str] = "up to 11 letters, digits, spaces or - _"
    for_storage: ClassVar[bool] = True

    def label_fault(self, label: str) -> str:
        from .names import label_fault

        return label_fault(label)

    def stored_label(self, label: str) -> str:
        return label.upper()

    def usual_cluster(self, volume_size: int, sector_size: int) -> int:
        return default_cluster_size(volume_size, sector_size)

    def check_cluster(self, size: int, sector_size: int) -> None:
        check_cluster_size(size, sector_size)

    def reach(self, sectors: int) -> int:
        return min(sectors, MOST_SECTORS)

    def obstacle(self, tree: Folder) -> str:
        large = next(((path, file.size) for path, file in tree.files() if file.size > LARGEST_FILE), None)
        if large is not None:
            return f"{large[0]} has {large[1]:,} bytes; FAT32 holds files of up to {LARGEST_FILE:,}"
        from .names import problems

        wrong = problems(tree)
        return wrong[0] + (f" (and {len(wrong) - 1} more)" if len(wrong) > 1 else "") if wrong else ""

    def draft(self, tree: Folder, label: str, cluster: int, sector_size: int) -> Draft:
        from .compose import lay_out
        from .planned import DraftedFat32

        return DraftedFat32(tree, label, lay_out(tree, label, cluster), sector_size)

    def again(self, tree: Folder, label: str, standing: StandingVolume) -> PlannedVolume:
        from .planned import PlannedFat32
        from .relayout import lay_out_again

        shape: Geometry = standing.geometry
        layout = lay_out_again(tree, label, shape.cluster_size, shape.cluster_count, standing.places)
        return PlannedFat32(tree, label, layout, shape)

    def recognises(self, drive: Readable, offset: int, size: int) -> bool:
        """By the fields that are other on FAT12 and FAT16; fatgen103 warns of going by BS_FilSysType."""
        if size < 512:
            return False
        boot = BootSector.unpack(drive.read_at(offset, 512))
        of_other_size = boot.BPB_FATSz16 or boot.BPB_TotSec16 or boot.BPB_RootEntCnt
        known = boot.BPB_BytsPerSec in (512, 1024, 2048, 4096) and boot.BPB_NumFATs in (1, 2) and boot.BPB_FATSz32
        return boot.signature == 0xAA55 and bool(known) and not of_other_size

    def head_copy(self, drive: Readable, offset: int, size: int) -> int | None:
        """Sector 6 has it (fatgen103, BPB_BkBootSec)."""
        for sector in (512, 4096):
            copy = BACKUP_BOOT_SECTOR * sector
            if copy + 512 > size or not self.recognises(drive, offset + copy, size - copy):
                continue
            boot = BootSector.unpack(drive.read_at(offset + copy, 512))
            if boot.BPB_BytsPerSec == sector and boot.BPB_BkBootSec == BACKUP_BOOT_SECTOR:
                return offset + copy
        return None

    def fitted(self, drive: Readable, offset: int, size: int) -> Sequence[tuple[int, bytes]]:
        """In the boot sector and its copy."""
        boot = BootSector.unpack(drive.read_at(offset, 512))
        total = size // boot.BPB_BytsPerSec
        if boot.BPB_TotSec32 <= total:
            return ()
        at, data = BootSector.offset_of("BPB_TotSec32"), total.to_bytes(4, "little")
        copy = offset + boot.BPB_BkBootSec * boot.BPB_BytsPerSec
        is_inside = 0 < boot.BPB_BkBootSec < boot.BPB_RsvdSecCnt and copy + 512 <= offset + size
        has_copy = is_inside and self.recognises(drive, copy, size)
        return [(place + at, data) for place in (offset, *((copy,) if has_copy else ()))]

    def sector_size_at(self, drive: Readable, offset: int) -> int:
        return BootSector.unpack(drive.read_at(offset, 512)).BPB_BytsPerSec

    def own_span(self, volume: Fat32Volume) -> tuple[int, int]:
        return volume.boot.BPB_HiddSec, volume.boot.BPB_TotSec32

    def open(self, drive: Readable, offset: int, size: int) -> Fat32Volume:
        from .read import Fat32Volume

        return Fat32Volume(drive, offset, size)

    def geometry_of(self, volume: Fat32Volume) -> Geometry:
        boot = volume.boot
        return Geometry(
            sector_size=boot.BPB_BytsPerSec,
            cluster_size=volume.cluster_size,
            hidden=volume.offset // boot.BPB_BytsPerSec,
            total=boot.BPB_TotSec32,
            reserved=boot.BPB_RsvdSecCnt,
            fat=boot.BPB_FATSz32,
        )

    def partition_end(self, regions: Sequence[tuple[str, int, int]], limit: int) -> int:
        return limit


FAT32 = Fat32()
