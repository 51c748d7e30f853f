"""exFAT answers for itself: see `volumes/kind.py`. Firmware does not read it, so that no installer is put on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar
from uuid import UUID

from ...boot.records import BootRecord
from ...common.errors import SourceError, UsageError
from ...common.units import counted, exact_size
from ...content.contents import Readable
from ...content.extents import MIB, align_up
from ...content.regions import Region
from ...content.tree import Folder
from ...drawing.areas import Area, Part
from ...tables.partition import OF_EXFAT, Use
from ..kind import Budget, Draft, PlannedVolume, StandingVolume
from ..planned import ClusterVolume
from .compose import Layout, clusters_of, compose, lay_out
from .geometry import Geometry, check_cluster, geometry, usual_cluster
from .names import label_fault, problems
from .read import ExfatVolume, is_sound_region
from .records import BOOT_SECTORS, FIRST_CLUSTER, BootSector


class Exfat:
    """exFAT, for ordinary storage between systems."""

    name: ClassVar[str] = "exfat"
    shown: ClassVar[str] = "exFAT"
    serial_size: ClassVar[int] = 4
    use: ClassVar[Use] = Use.IFS_DATA
    firmware_reads: ClassVar[bool] = False
    names_loaders: ClassVar[bool] = False
    head: ClassVar[tuple[int, str]] = (0, "boot sector")
    partition_types: ClassVar[frozenset[int | UUID]] = OF_EXFAT
    boot_record: ClassVar[BootRecord | None] = None
    checked_with: ClassVar[str] = "'fsck.exfat' (Linux), 'chkdsk /f' (Windows) or First Aid (Mac) on it"
    label_rule: ClassVar[str] = "up to 11 characters"

    def label_fault(self, label: str) -> str:
        return label_fault(label)

    def stored_label(self, label: str) -> str:
        return label

    def usual_cluster(self, volume_size: int, sector_size: int) -> int:
        return usual_cluster(volume_size, sector_size)

    def check_cluster(self, size: int, sector_size: int) -> None:
        check_cluster(size, sector_size)

    def reach(self, sectors: int) -> int:
        return sectors

    def obstacle(self, tree: Folder) -> str:
        wrong = problems(tree)
        return wrong[0] + (f" (and {len(wrong) - 1} more)" if len(wrong) > 1 else "") if wrong else ""

    def draft(self, tree: Folder, label: str, cluster: int, sector_size: int) -> Draft:
        check_cluster(cluster, sector_size)
        return _Draft(tree, label, cluster, sector_size, clusters_of(tree, cluster))

    def again(self, tree: Folder, label: str, standing: StandingVolume) -> PlannedVolume:
        raise UsageError("exFAT volumes are not updated.", advice="Build the drive again.")

    def recognises(self, drive: Readable, offset: int, size: int) -> bool:
        return size >= 512 and drive.read_at(offset + 3, 8) == b"EXFAT   "

    def head_copy(self, drive: Readable, offset: int, size: int) -> int | None:
        """The backup boot region begins with it (3)."""
        for shift in range(9, 13):
            sector = 1 << shift
            copy = offset + BOOT_SECTORS * sector
            if 2 * BOOT_SECTORS * sector > size or not self.recognises(drive, copy, sector):
                continue
            region = drive.read_at(copy, BOOT_SECTORS * sector)
            if BootSector.unpack(region).BytesPerSectorShift == shift and is_sound_region(region, sector):
                return copy
        return None

    def fitted(self, drive: Readable, offset: int, size: int) -> Sequence[tuple[int, bytes]]:
        return ()

    def sector_size_at(self, drive: Readable, offset: int) -> int:
        boot = BootSector.unpack(drive.read_at(offset, BootSector.SIZE))
        return 1 << boot.BytesPerSectorShift if boot.FileSystemName == b"EXFAT   " else 0

    def own_span(self, volume: ExfatVolume) -> tuple[int, int]:
        return volume.boot.PartitionOffset, volume.boot.VolumeLength

    def open(self, drive: Readable, offset: int, size: int) -> ExfatVolume:
        return ExfatVolume(drive, offset, size)

    def geometry_of(self, volume: ExfatVolume) -> Geometry:
        boot, hidden = volume.boot, volume.offset // volume.sector_size
        return Geometry(
            volume.sector_size,
            volume.cluster_size,
            hidden,
            boot.VolumeLength,
            boot.FatOffset,
            boot.FatLength,
            boot.ClusterHeapOffset,
        )

    def partition_end(self, regions: Sequence[tuple[str, int, int]], limit: int) -> int:
        return limit


EXFAT = Exfat()


@dataclass(frozen=True)
class _Draft:
    """An exFAT volume without a place."""

    tree: Folder
    label: str
    cluster_size: int
    sector_size: int
    clusters: int
    """Of all but the bitmap."""

    def smallest_end(self, start: int) -> int:
        end = align_up(start + 4 * MIB + self.clusters * self.cluster_size, MIB)
        while not self._holds(start, end):
            end += MIB
        return end

    def _shape(self, start: int, end: int) -> Geometry:
        size = self.sector_size
        return geometry(
            hidden=start // size, total=(end - start) // size, sector_size=size, cluster_size=self.cluster_size
        )

    def _holds(self, start: int, end: int) -> bool:
        try:
            shape = self._shape(start, end)
        except UsageError:
            return False
        return self.clusters - (-shape.bitmap_size // self.cluster_size) <= shape.cluster_count

    def settle(self, start: int, end: int) -> PlannedVolume:
        shape = self._shape(start, end)
        if not self._holds(start, end):
            needed = exact_size(self.smallest_end(start))
            raise SourceError(f"The files do not fit: {needed} are needed.", advice="Use a larger drive.")
        return PlannedExfat(self.tree, self.label, lay_out(self.tree, shape), shape)

    def budget(self, size: int | None) -> Budget:
        used = self.clusters * self.cluster_size
        return Budget(used + max(size or used, used) // self.cluster_size * 5, 0)  # FAT and bitmap


@dataclass(frozen=True)
class PlannedExfat(ClusterVolume):
    """An exFAT volume as it will be."""

    tree: Folder
    label: str
    layout: Layout
    geometry: Geometry

    @property
    def kind(self) -> Exfat:
        return EXFAT

    def budget(self) -> Budget:
        return Budget(self.layout.next_free * self.cluster_size + 5 * self.geometry.cluster_count, 0)

    def areas(self) -> list[Area]:
        shape, layout = self.geometry, self.layout
        fat = self.start + shape.fat_offset * shape.sector_size
        heap = self.start + shape.cluster_offset(FIRST_CLUSTER)
        folders = self.start + shape.cluster_offset(layout.upcase.cluster)
        last = layout.folders[-1]
        files = self.start + shape.cluster_offset(last.cluster + last.count)
        parts = [
            Area(Part.BOOT, self.start, fat - self.start, "exFAT boot region and its copy"),
            Area(Part.FATS, fat, heap - fat, "cluster table"),
            Area(Part.CLUSTER_MAP, heap, folders - heap, "which clusters are in use"),
            Area(Part.FOLDERS, folders, files - folders, f"up-case table, {counted(len(layout.folders), 'folder')}"),
            Area(Part.FILES, files, self.used_end - files, f"{counted(len(layout.files), 'file')}, each in one piece"),
            Area(Part.FREE, self.used_end, self.end - self.used_end, "free space of the volume"),
        ]
        return [area for area in parts if area.size > 0]

    def regions(self, serial: int) -> list[Region]:
        return compose(self.layout, self.geometry, self.label, serial)

    def note(self, serial: int) -> dict[str, Any]:
        return self.common_note(EXFAT.name, serial)
