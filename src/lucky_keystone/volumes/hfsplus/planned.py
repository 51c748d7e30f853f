"""An HFS+ volume that is to be made: without a place, and with one. See `volumes/kind.py`."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ...common.errors import SourceError
from ...common.units import exact_size
from ...content.extents import MIB, align_up
from ...content.regions import Region
from ...content.tree import Folder
from ...drawing.areas import Area, Part
from ..kind import Budget, PlannedVolume
from ..planned import ClusterVolume
from .compose import compose, header_of
from .essence import SIZE, essences_of
from .geometry import MOST_BLOCKS, Geometry
from .kind import HFSPLUS, HfsPlus
from .layout import Layout, Measured, place
from .records import ALLOCATION_FILE

_RECORD_TEXT = -(-SIZE * 4 // 3)  # bytes of an essence as base64
_HEADROOM = 4 << 20  # systems write files of their own onto a volume as soon as they use it
_MARGIN = 4 << 20  # the allocation file of the largest volume, where its size is not known yet


class DraftedHfsPlus(Struct, frozen=True):
    """An HFS+ volume without a place."""

    tree: Folder
    label: str
    measured: Measured
    cluster_size: int
    sector_size: int

    def _shape(self, start: int, end: int) -> Geometry:
        size = self.sector_size
        return Geometry(size, self.cluster_size, start // size, (end - start) // size)

    def smallest_end(self, start: int) -> int:
        end = start + MIB
        while True:
            shape = self._shape(start, end)
            behind = (shape.block_count - shape.cluster_count) * self.cluster_size
            needed = place(self.measured, shape).next_free * self.cluster_size + behind + _HEADROOM
            if start + needed <= end:
                return end
            end = align_up(start + needed, MIB)

    def settle(self, start: int, end: int) -> PlannedVolume:
        shape = self._shape(start, end)
        layout = place(self.measured, shape)
        if layout.next_free > shape.cluster_count or shape.block_count > MOST_BLOCKS:
            needed = exact_size(self.smallest_end(start))
            raise SourceError(f"The source does not fit: {needed} are needed.", advice="Use a larger drive.")
        return PlannedHfsPlus(self.tree, self.label, layout, shape)

    def budget(self, size: int | None) -> Budget:
        layout = place(self.measured, self._shape(0, size or MIB))
        count = self.measured.catalogue.next_number
        return Budget(layout.next_free * self.cluster_size + _MARGIN, _RECORD_TEXT * count)


class PlannedHfsPlus(ClusterVolume, Struct, frozen=True):
    """An HFS+ volume as it will be."""

    tree: Folder
    label: str
    layout: Layout
    geometry: Geometry

    @property
    def kind(self) -> HfsPlus:
        return HFSPLUS

    def budget(self) -> Budget:
        count = self.layout.catalogue.next_number
        return Budget((self.layout.next_free + 2) * self.cluster_size, _RECORD_TEXT * count)

    def areas(self) -> list[Area]:
        layout, geometry = self.layout, self.geometry

        def place_of(block: int) -> int:
            return self.start + geometry.cluster_offset(block)

        first, count = layout.own[ALLOCATION_FILE]
        bits, trees, files = place_of(first), place_of(first + count), place_of(layout.files_from)
        contents = layout.catalogue
        numbers = f"{contents.file_count:,} files, {contents.folder_count:,} folders"
        blessed = f"; names {contents.starts_with.path} to firmware" if contents.starts_with else ""
        parts = [
            Area(Part.BOOT, self.start, bits - self.start, f"copy at the partition's end{blessed}", "volume header"),
            Area(Part.CLUSTER_MAP, bits, trees - bits, "which allocation blocks are in use", "allocation file"),
            Area(Part.FILE_TABLE, trees, files - trees, f"B-trees: {numbers}, their attributes", "catalog"),
            Area(Part.FILES, files, self.used_end - files, f"{len(layout.forks):,} forks, each in one piece"),
            Area(Part.FREE, self.used_end, self.end - self.used_end, "free space of the volume"),
        ]
        return [area for area in parts if area.size > 0]

    def regions(self, serial: int) -> list[Region]:
        return compose(self.layout, serial=serial)

    def note(self, serial: int) -> dict[str, Any]:
        common = self.common_note(HFSPLUS.name, serial)
        return {**common, "header": header_of(self.layout, serial), "records": essences_of(self.layout)}
