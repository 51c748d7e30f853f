"""An exFAT volume that is to be made: without a place, and with one. See `volumes/kind.py`."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ...common.errors import SourceError, UsageError
from ...common.units import counted, exact_size
from ...content.extents import MIB, align_up
from ...content.regions import Region
from ...content.tree import Folder
from ...drawing.areas import Area, Part
from ..kind import Budget, PlannedVolume
from ..planned import ClusterVolume
from .compose import Layout, compose, lay_out
from .geometry import Geometry, geometry
from .kind import EXFAT, Exfat
from .records import FIRST_CLUSTER


class DraftedExfat(Struct, frozen=True):
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


class PlannedExfat(ClusterVolume, Struct, frozen=True):
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
