"""An NTFS volume that is to be made: without a place, and with one. See `volumes/kind.py`."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from ...boot.records import NTFS_RECORD
from ...common.errors import SourceError
from ...common.units import counted, exact_size
from ...content.extents import MIB, align_up
from ...content.regions import Region
from ...content.tree import Folder
from ...drawing.areas import Area, Part
from ..kind import Budget, PlannedVolume
from ..planned import ClusterVolume
from .catalogue import Catalogue
from .compose import compose
from .essence import SIZE, essences_of
from .geometry import Geometry, geometry
from .kind import NTFS, Ntfs
from .layout import Layout, place, record_count, streams_of
from .records import BITMAP_FILE, FIRST_USER, LOG_FILE, MFT, MFT_MIRROR
from .system import log_size

_RECORD_TEXT = -(-SIZE * 4 // 3)  # bytes of an essence as base64
_HEADROOM = 4 << 20  # systems write records of their own onto an NTFS volume as soon as they use it
_MARGIN = 96 << 20  # the log and the cluster map of the largest volume, where its size is not known yet


class DraftedNtfs:
    """An NTFS volume without a place."""

    def __init__(self, tree: Folder, label: str, contents: Catalogue, cluster_size: int, sector_size: int) -> None:
        self._tree, self._label, self._catalogue = tree, label, contents
        self._cluster_size, self._sector_size = cluster_size, sector_size
        least = self._shape(0, MIB)
        self._streams = streams_of(contents, cluster_size)
        self._fixed = place(contents, least, streams=self._streams).next_free - self._growing(least)

    def _growing(self, shape: Geometry) -> int:
        """Clusters of what grows with the volume: log and cluster map."""
        log = log_size(shape.total * shape.sector_size)
        return shape.clusters_for(log) + shape.clusters_for(align_up(shape.cluster_count, 64) // 8)

    def _shape(self, start: int, end: int) -> Geometry:
        size, cluster = self._sector_size, self._cluster_size
        return geometry(hidden=start // size, total=(end - start) // size, sector_size=size, cluster_size=cluster)

    def smallest_end(self, start: int) -> int:
        end = start + MIB
        while True:
            clusters = self._fixed + self._growing(self._shape(start, end))
            # The last sector belongs to no cluster.
            needed = clusters * self._cluster_size + _HEADROOM + self._sector_size
            if start + needed <= end:
                return end
            end = align_up(start + needed, MIB)

    def settle(self, start: int, end: int) -> PlannedVolume:
        shape = self._shape(start, end)
        layout = place(self._catalogue, shape, streams=self._streams)
        if layout.next_free > shape.cluster_count:
            needed = exact_size(self.smallest_end(start))
            raise SourceError(f"The source does not fit: {needed} are needed.", advice="Use a larger drive.")
        return PlannedNtfs(self._tree, self._label, layout, shape)

    def budget(self, size: int | None) -> Budget:
        clusters = self._fixed + self._growing(self._shape(0, size or MIB))
        return Budget(clusters * self._cluster_size + _MARGIN, _RECORD_TEXT * record_count(self._catalogue))


class PlannedNtfs(ClusterVolume, Struct, frozen=True):
    """An NTFS volume as it will be."""

    tree: Folder
    label: str
    layout: Layout
    geometry: Geometry

    @property
    def kind(self) -> Ntfs:
        return NTFS

    def budget(self) -> Budget:
        return Budget(self.layout.next_free * self.cluster_size, _RECORD_TEXT * self.layout.record_count)

    def areas(self) -> list[Area]:
        layout, geometry = self.layout, self.geometry

        def behind(*numbers: int) -> int:
            last = [placed for placed in layout.indexes if placed.node.number in numbers][-1]
            return self.start + geometry.cluster_offset(last.cluster + last.count)

        boot = self.start + geometry.cluster_offset(layout.indexes[0].count)
        table, log, bits = behind(MFT, MFT_MIRROR), behind(LOG_FILE), behind(BITMAP_FILE)
        files = self.start + geometry.cluster_offset(layout.files_from)
        nodes = layout.catalogue.nodes.values()
        folders = sum(1 for node in nodes if node.is_folder) - 1  # without $Extend
        files_there = sum(1 for node in nodes if not node.is_folder and node.number >= FIRST_USER)
        records = f"{layout.record_count:,} records, and a mirror of the first"
        parts = [
            Area(Part.BOOT, self.start, boot - self.start, "NTFS boot record; its copy ends the partition"),
            Area(Part.FILE_TABLE, boot, table - boot, records),
            Area(Part.LOG, table, log - table, "clean; systems write it when they use the drive"),
            Area(Part.CLUSTER_MAP, log, bits - log, "which clusters are in use"),
            Area(Part.FOLDERS, bits, files - bits, f"{folders:,} folders, and the volume's own streams"),
            Area(Part.FILES, files, self.used_end - files, f"{counted(files_there, 'file')}, each in one piece"),
            Area(Part.FREE, self.used_end, self.end - self.used_end, "free space of the volume"),
        ]
        return [area for area in parts if area.size > 0]

    def regions(self, serial: int) -> list[Region]:
        first, further = NTFS_RECORD.first_sector, NTFS_RECORD.further_code
        return compose(self.layout, serial=serial, boot_sector=first, further_code=further)

    def note(self, serial: int) -> dict[str, Any]:
        runs = {"runs": True} if self.tree.special.ntfs is not None else {}
        return {**self.common_note(NTFS.name, serial), "records": essences_of(self.layout), **runs}
