"""A FAT32 volume that is to be made: without a place, and with one. See `volumes/kind.py`."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ...boot.records import FAT32_RECORD
from ...common.errors import SourceError
from ...common.units import counted, exact_size
from ...content.extents import MIB, align_up
from ...content.regions import Region
from ...content.tree import Folder
from ...drawing.areas import Area, Part
from ..kind import Budget, PlannedVolume
from ..planned import ClusterVolume
from .compose import Layout, compose
from .geometry import Geometry, geometry, smallest_total
from .kind import FAT32, Fat32

_FOLDER_TEXT = 40  # bytes of two numbers as text, with their punctuation


class DraftedFat32(Struct, frozen=True):
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


class PlannedFat32(ClusterVolume, Struct, frozen=True):
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
