"""The volumes of a drive: each drafted from its tree alone, then settled at a place.

A draft knows how little room its volume can do with; settled, the volume has its measures, and everything on it a
place.
One class a file system; what planning asks of both is the same.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal, Protocol

from ..errors import SourceError
from ..extents import MIB, align_up
from ..tree import Folder
from ..units import exact_size
from ..volumes.fat32 import geometry as fat32
from ..volumes.fat32.compose import Layout as Fat32Layout
from ..volumes.fat32.compose import lay_out
from ..volumes.fat32.relayout import lay_out_again
from ..volumes.ntfs import geometry as ntfs
from ..volumes.ntfs.catalogue import Catalogue, catalogue
from ..volumes.ntfs.layout import Layout as NtfsLayout
from ..volumes.ntfs.layout import place, record_count
from ..volumes.ntfs.records import BITMAP_FILE, FIRST_USER, LOG_FILE, MFT, MFT_MIRROR
from ..volumes.ntfs.system import log_size
from ..volumes.placing import LARGEST_FILLED_HOLE
from .plan import Area

Role = Literal["installer", "starter", "crossing"]
"""installer: everything; starter: of a pair, what firmware must read; crossing: our UEFI helper."""
FileSystem = Literal["fat32", "ntfs"]
SHOWN = {"fat32": "FAT32", "ntfs": "NTFS"}
_FOLDER_TOLD = 40  # bytes of two numbers as text, with their punctuation
_RECORD_TOLD = 6  # bytes of a sum of 4 bytes as base64
_HEADROOM = 4 << 20  # systems write records of their own onto an NTFS volume as soon as they use it
_MARGIN = 96 << 20  # the log and the cluster map of the largest volume, where its size is not known yet


@dataclass(frozen=True)
class StandingVolume:
    """A volume of a drive that is to be updated."""

    file_system: FileSystem
    geometry: fat32.Geometry | ntfs.Geometry
    places: Mapping[str, tuple[int, int]]
    """Path in upper case to first cluster and size in bytes, of every file that lies in one piece."""


@dataclass(frozen=True)
class PlannedVolume:
    """A volume as it will be."""

    role: Role
    label: str
    tree: Folder
    layout: Fat32Layout | NtfsLayout
    geometry: fat32.Geometry | ntfs.Geometry

    @property
    def file_system(self) -> FileSystem:
        """Which it is."""
        return "ntfs" if isinstance(self.layout, NtfsLayout) else "fat32"

    @property
    def start(self) -> int:
        """First byte on the drive."""
        return self.geometry.hidden * self.geometry.sector_size

    @property
    def size(self) -> int:
        """Bytes of its partition."""
        return self.geometry.total * self.geometry.sector_size

    @property
    def end(self) -> int:
        """First byte behind it."""
        return self.start + self.size

    @property
    def used_end(self) -> int:
        """First byte behind everything that is on it."""
        return self.start + self.geometry.cluster_offset(self.layout.next_free)

    @property
    def free(self) -> int:
        """Bytes left free."""
        return (self.geometry.cluster_count - self.layout.clusters_used) * self.geometry.cluster_size

    @property
    def scattered(self) -> int:
        """Holes that end a run of files; an update may leave some."""
        return sum(1 for _, count in self.layout.holes if count * self.geometry.cluster_size >= LARGEST_FILLED_HOLE)

    @property
    def hashed(self) -> int:
        """Bytes that the manifest surely has no more hashes for."""
        fats = 8 * self.geometry.cluster_count if self.file_system == "fat32" else 0  # two FATs, 4 bytes a cluster each
        return self.layout.next_free * self.geometry.cluster_size + fats

    @property
    def told(self) -> int:
        """Bytes of the manifest's text that tell of this volume, beside its hashes."""
        return _told(self.layout)

    def areas(self) -> list[Area]:
        """Return the volume's parts, for people."""
        parts = _ntfs_areas(self) if isinstance(self.layout, NtfsLayout) else _fat32_areas(self)
        parts.append(Area("free", self.used_end, self.end - self.used_end, "free space of the volume"))
        return [area for area in parts if area.size > 0]


def _told(layout: Fat32Layout | NtfsLayout) -> int:
    if isinstance(layout, NtfsLayout):
        return _RECORD_TOLD * layout.record_count
    return _FOLDER_TOLD * len(layout.folders)


def _fat32_areas(volume: PlannedVolume) -> list[Area]:
    shape, layout = volume.geometry, volume.layout
    assert isinstance(shape, fat32.Geometry)
    assert isinstance(layout, Fat32Layout)
    fats = volume.start + shape.reserved * shape.sector_size
    data = volume.start + shape.first_data * shape.sector_size
    files = volume.start + shape.cluster_offset(max((f.cluster + f.cluster_count for f in layout.folders), default=2))
    return [
        Area("boot sectors", volume.start, fats - volume.start, "FAT32 boot record, its copy, further boot code"),
        Area("FATs", fats, data - fats, "two copies of the cluster table"),
        Area("folders", data, files - data, f"{len(layout.folders):,} folders"),
        Area("files", files, volume.used_end - files, f"{len(layout.files):,} files, each in one piece"),
    ]


def _ntfs_areas(volume: PlannedVolume) -> list[Area]:
    layout = volume.layout
    assert isinstance(layout, NtfsLayout)

    def behind(*numbers: int) -> int:
        last = [placed for placed in layout.indexes if placed.node.number in numbers][-1]
        return volume.start + volume.geometry.cluster_offset(last.cluster + last.count)

    boot = volume.start + volume.geometry.cluster_offset(layout.indexes[0].count)
    table, log, bits = behind(MFT, MFT_MIRROR), behind(LOG_FILE), behind(BITMAP_FILE)
    files = volume.start + volume.geometry.cluster_offset(layout.files_from)
    nodes = layout.catalogue.nodes.values()
    folders = sum(1 for node in nodes if node.is_folder) - 1  # without $Extend
    files_there = sum(1 for node in nodes if not node.is_folder and node.number >= FIRST_USER)
    return [
        Area("boot sectors", volume.start, boot - volume.start, "NTFS boot record; its copy ends the partition"),
        Area("file table", boot, table - boot, f"{layout.record_count:,} records, and a mirror of the first"),
        Area("log", table, log - table, "clean; systems write it when they use the drive"),
        Area("cluster map", log, bits - log, "which clusters are in use"),
        Area("folders", bits, files - bits, f"{folders:,} folders, and the volume's own streams"),
        Area("files", files, volume.used_end - files, f"{files_there:,} files, each in one piece"),
    ]


class Draft(Protocol):
    """A volume that has no place yet."""

    role: Role

    def smallest_end(self, start: int) -> int:
        """Return the byte, a whole MiB, where the smallest such volume ends that starts at byte `start` of the drive."""

    def settle(self, start: int, end: int) -> PlannedVolume:
        """Return the volume from byte `start` to `end`. Raises UsageError or SourceError when it cannot be that."""

    def hashed(self, size: int | None) -> int:
        """Return bytes that the manifest surely has no more hashes for, on a volume of `size` bytes (its smallest if None)."""

    def told(self) -> int:
        """Return bytes of the manifest's text that tell of this volume, beside its hashes."""


def draft(role: Role, file_system: FileSystem, tree: Folder, label: str, cluster_size: int, sector_size: int) -> Draft:
    """Draft a volume. Raises SourceError for what the file system cannot hold, UsageError for its cluster size."""
    kind = NtfsDraft if file_system == "ntfs" else Fat32Draft
    return kind(role, tree, label, cluster_size, sector_size)


class Fat32Draft:
    """A FAT32 volume without a place."""

    def __init__(self, role: Role, tree: Folder, label: str, cluster_size: int, sector_size: int) -> None:
        self.role, self._tree, self._label = role, tree, label
        self._cluster_size, self._sector_size = cluster_size, sector_size
        self._layout = lay_out(tree, label, cluster_size)

    def smallest_end(self, start: int) -> int:
        hidden = start // self._sector_size
        smallest = fat32.smallest_total(hidden, self._layout.clusters_used, self._sector_size, self._cluster_size)
        return align_up(start + smallest * self._sector_size, MIB)

    def settle(self, start: int, end: int) -> PlannedVolume:
        size = self._sector_size
        shape = fat32.geometry(
            hidden=start // size, total=(end - start) // size, sector_size=size, cluster_size=self._cluster_size
        )
        if shape.cluster_count < self._layout.clusters_used:
            raise SourceError(
                f"The source does not fit: {exact_size(self.smallest_end(start))} are needed.",
                advice="Use a larger drive.",
            )
        return PlannedVolume(self.role, self._label, self._tree, self._layout, shape)

    def hashed(self, size: int | None) -> int:
        clusters = self._layout.clusters_used
        fats = 8 * max(
            (size or clusters * self._cluster_size) // self._cluster_size, clusters
        )  # two FATs, 4 bytes a cluster each
        return clusters * self._cluster_size + fats

    def told(self) -> int:
        return _told(self._layout)


class NtfsDraft:
    """An NTFS volume without a place."""

    def __init__(self, role: Role, tree: Folder, label: str, cluster_size: int, sector_size: int) -> None:
        self.role, self._tree, self._label = role, tree, label
        self._cluster_size, self._sector_size = cluster_size, sector_size
        ntfs.check_cluster_size(cluster_size, sector_size)
        self._catalogue: Catalogue = catalogue(tree, label, ntfs.record_size(sector_size))
        least = self._shape(0, MIB)
        self._fixed = place(self._catalogue, least).next_free - self._growing(least)

    def _growing(self, shape: ntfs.Geometry) -> int:
        """Clusters of what grows with the volume: log and cluster map."""
        return shape.clusters_for(log_size(shape.total * shape.sector_size)) + shape.clusters_for(
            align_up(shape.cluster_count, 64) // 8
        )

    def _shape(self, start: int, end: int) -> ntfs.Geometry:
        size = self._sector_size
        return ntfs.geometry(
            hidden=start // size, total=(end - start) // size, sector_size=size, cluster_size=self._cluster_size
        )

    def smallest_end(self, start: int) -> int:
        end = start + MIB
        while True:
            clusters = self._fixed + self._growing(self._shape(start, end))
            needed = (
                clusters * self._cluster_size + _HEADROOM + self._sector_size
            )  # the last sector belongs to no cluster
            if start + needed <= end:
                return end
            end = align_up(start + needed, MIB)

    def settle(self, start: int, end: int) -> PlannedVolume:
        shape = self._shape(start, end)
        layout = place(self._catalogue, shape)
        if layout.next_free > shape.cluster_count:
            raise SourceError(
                f"The source does not fit: {exact_size(self.smallest_end(start))} are needed.",
                advice="Use a larger drive.",
            )
        return PlannedVolume(self.role, self._label, self._tree, layout, shape)

    def hashed(self, size: int | None) -> int:
        shape = self._shape(0, size or MIB)
        return (self._fixed + self._growing(shape)) * self._cluster_size + _MARGIN

    def told(self) -> int:
        return _RECORD_TOLD * record_count(self._catalogue)


def settle_again(role: Role, tree: Folder, label: str, standing: StandingVolume) -> PlannedVolume:
    """Lay a tree out on a volume that stands. Raises SourceError where that cannot be."""
    shape = standing.geometry
    if isinstance(shape, ntfs.Geometry):
        layout: Fat32Layout | NtfsLayout = place(catalogue(tree, label, shape.record_size), shape, standing.places)
    else:
        layout = lay_out_again(tree, label, shape.cluster_size, shape.cluster_count, standing.places)
    return PlannedVolume(role, label, tree, layout, shape)


def default_cluster_size(file_system: FileSystem, volume_size: int, sector_size: int) -> int:
    """Return the cluster size in bytes that is usual for a volume of `volume_size` bytes."""
    if file_system == "ntfs":
        return max(ntfs.USUAL_CLUSTER, sector_size)
    return fat32.default_cluster_size(volume_size, sector_size)
