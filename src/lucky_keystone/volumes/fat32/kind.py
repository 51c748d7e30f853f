"""FAT32 answers for itself: see `volumes/kind.py`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar
from uuid import UUID

from ...boot.records import FAT32_RECORD, BootRecord
from ...common.errors import SourceError
from ...common.units import counted, exact_size
from ...content.contents import Readable
from ...content.extents import MIB, align_up
from ...content.regions import Region
from ...content.tree import Folder
from ...drawing.areas import Area, Part
from ...tables.mbr import MOST_SECTORS
from ...tables.partition import OF_FAT32, Use
from ..kind import Budget, Draft, PlannedVolume, StandingVolume
from ..planned import ClusterVolume
from .compose import Layout, compose, lay_out
from .geometry import Geometry, check_cluster_size, default_cluster_size, geometry, smallest_total
from .names import label_fault, problems
from .read import Fat32Volume
from .records import BACKUP_BOOT_SECTOR, BootSector
from .relayout import lay_out_again

LARGEST_FILE = 0xFFFF_FFFF
"""Bytes (fatgen103, "DIR_FileSize": 32 bits)."""
_FOLDER_TEXT = 40  # bytes of two numbers as text, with their punctuation


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

    def label_fault(self, label: str) -> str:
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
        wrong = problems(tree)
        return wrong[0] + (f" (and {len(wrong) - 1} more)" if len(wrong) > 1 else "") if wrong else ""

    def draft(self, tree: Folder, label: str, cluster: int, sector_size: int) -> Draft:
        return _Draft(tree, label, lay_out(tree, label, cluster), sector_size)

    def again(self, tree: Folder, label: str, standing: StandingVolume) -> PlannedVolume:
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


@dataclass(frozen=True)
class _Draft:
    """A FAT32 volume without a place."""

    tree: Folder
    label: str
    layout: Layout
    sector_size: int

    def smallest_end(self, start: int) -> int:
        size, cluster = self.sector_size, self.layout.cluster_size
        smallest = smallest_total(start // size, self.layout.clusters_used, size, cluster)
        return align_up(start + smallest * size, MIB)

    def settle(self, start: int, end: int) -> PlannedVolume:
        size, cluster = self.sector_size, self.layout.cluster_size
        shape = geometry(hidden=start // size, total=(end - start) // size, sector_size=size, cluster_size=cluster)
        if shape.cluster_count < self.layout.clusters_used:
            needed = exact_size(self.smallest_end(start))
            raise SourceError(f"The source does not fit: {needed} are needed.", advice="Use a larger drive.")
        return PlannedFat32(self.tree, self.label, self.layout, shape)

    def budget(self, size: int | None) -> Budget:
        clusters, cluster = self.layout.clusters_used, self.layout.cluster_size
        fats = 8 * max((size or clusters * cluster) // cluster, clusters)  # two FATs, 4 bytes a cluster each
        return Budget(clusters * cluster + fats, _FOLDER_TEXT * len(self.layout.folders))


@dataclass(frozen=True)
class PlannedFat32(ClusterVolume):
    """A FAT32 volume as it will be."""

    tree: Folder
    label: str
    layout: Layout
    geometry: Geometry

    @property
    def kind(self) -> Fat32:
        return FAT32

    def budget(self) -> Budget:
        fats = 8 * self.geometry.cluster_count  # two FATs, 4 bytes a cluster each
        return Budget(self.layout.next_free * self.cluster_size + fats, _FOLDER_TEXT * len(self.layout.folders))

    def areas(self) -> list[Area]:
        shape, layout = self.geometry, self.layout
        fats = self.start + shape.reserved * shape.sector_size
        data = self.start + shape.first_data * shape.sector_size
        files = self.start + shape.cluster_offset(max((f.cluster + f.cluster_count for f in layout.folders), default=2))
        parts = [
            Area(Part.BOOT, self.start, fats - self.start, "FAT32 boot record, its copy, further boot code"),
            Area(Part.FATS, fats, data - fats, "two copies of the cluster table"),
            Area(Part.FOLDERS, data, files - data, counted(len(layout.folders), "folder")),
            Area(Part.FILES, files, self.used_end - files, f"{counted(len(layout.files), 'file')}, each in one piece"),
            Area(Part.FREE, self.used_end, self.end - self.used_end, "free space of the volume"),
        ]
        return [area for area in parts if area.size > 0]

    def regions(self, serial: int) -> list[Region]:
        first, further = FAT32_RECORD.first_sector, FAT32_RECORD.further_code
        return compose(self.layout, self.geometry, serial=serial, boot_sector=first, further_code=further)

    def note(self, serial: int) -> dict[str, Any]:
        folders = [[placed.cluster, placed.used_bytes] for placed in self.layout.folders]
        return {**self.common_note(FAT32.name, serial), "folders": folders}
