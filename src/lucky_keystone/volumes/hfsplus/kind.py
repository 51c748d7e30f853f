"""HFS Plus answers for itself: see `volumes/kind.py`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar
from uuid import UUID

from ...boot.records import BootRecord
from ...common.errors import SourceError
from ...common.units import exact_size
from ...content.contents import Readable
from ...content.extents import MIB, align_up
from ...content.regions import Region, RegionKind
from ...content.tree import Folder
from ...drawing.areas import Area, Part
from ...tables.partition import OF_HFS_PLUS, Use
from ..kind import Budget, Draft, PlannedVolume, StandingVolume
from ..planned import ClusterVolume
from .catalogue import catalogue
from .compose import compose, header_of
from .essence import SIZE, essences_of
from .geometry import MOST_BLOCKS, Geometry, check_block_size, usual_block
from .layout import Layout, Measured, measure, place
from .names import name_fault
from .read import HfsPlusVolume
from .records import ALLOCATION_FILE, HEADER_OFFSET, SIGNATURE_PLUS, SIGNATURE_X, VolumeHeader

_RECORD_TEXT = -(-SIZE * 4 // 3)  # bytes of an essence as base64
_HEADROOM = 4 << 20  # systems write files of their own onto a volume as soon as they use it
_MARGIN = 4 << 20  # the allocation file of the largest volume, where its size is not known yet


class HfsPlus:
    """HFS+, which the firmware of Macs reads."""

    name: ClassVar[str] = "hfsplus"
    shown: ClassVar[str] = "HFS+"
    serial_size: ClassVar[int] = 8
    use: ClassVar[Use] = Use.HFS
    firmware_reads: ClassVar[bool] = False
    names_loaders: ClassVar[bool] = True
    head: ClassVar[tuple[int, str]] = (HEADER_OFFSET, "volume header")
    partition_types: ClassVar[frozenset[int | UUID]] = OF_HFS_PLUS
    boot_record: ClassVar[BootRecord | None] = None
    checked_with: ClassVar[str] = "First Aid on it on a Mac"
    label_rule: ClassVar[str] = "up to 255 characters, no ':' and no '/'"

    def label_fault(self, label: str) -> str:
        if not label or any(character in label for character in ":/\0") or name_fault(label):
            return "cannot be stored on HFS+"
        return ""

    def stored_label(self, label: str) -> str:
        return label

    def usual_cluster(self, volume_size: int, sector_size: int) -> int:
        return usual_block(volume_size, sector_size)

    def check_cluster(self, size: int, sector_size: int) -> None:
        check_block_size(size, sector_size)

    def reach(self, sectors: int) -> int:
        return sectors

    def obstacle(self, tree: Folder) -> str:
        return ""

    def draft(self, tree: Folder, label: str, cluster: int, sector_size: int) -> Draft:
        check_block_size(cluster, sector_size)
        return _Draft(tree, label, measure(catalogue(tree, label)), cluster, sector_size)

    def again(self, tree: Folder, label: str, standing: StandingVolume) -> PlannedVolume:
        layout = place(measure(catalogue(tree, label)), standing.geometry, standing.places)
        return PlannedHfsPlus(tree, label, layout, standing.geometry)

    def recognises(self, drive: Readable, offset: int, size: int) -> bool:
        if size < 2 * HEADER_OFFSET:
            return False
        head = drive.read_at(offset + HEADER_OFFSET, 4)
        return head[:2] in (SIGNATURE_PLUS, SIGNATURE_X) and head[2:] in (b"\0\4", b"\0\5")

    def head_copy(self, drive: Readable, offset: int, size: int) -> int | None:
        """The alternate header has it."""
        copy = offset + size - HEADER_OFFSET
        if size < 2 * HEADER_OFFSET or not self.recognises(drive, copy - HEADER_OFFSET, 2 * HEADER_OFFSET):
            return None
        header = VolumeHeader.unpack(drive.read_at(copy, VolumeHeader.SIZE))
        return copy if 0 < header.blockSize * header.totalBlocks <= size else None

    def fitted(self, drive: Readable, offset: int, size: int) -> Sequence[tuple[int, bytes]]:
        return ()

    def sector_size_at(self, drive: Readable, offset: int) -> int:
        return 0

    def own_span(self, volume: HfsPlusVolume) -> tuple[int, int]:
        return 0, 0

    def open(self, drive: Readable, offset: int, size: int) -> HfsPlusVolume:
        return HfsPlusVolume(drive, offset, size)

    def geometry_of(self, volume: HfsPlusVolume) -> Geometry:
        sector = min(512, volume.cluster_size)
        total = volume.cluster_count * volume.cluster_size // sector
        return Geometry(sector, volume.cluster_size, volume.offset // sector, total)

    def partition_end(self, regions: Sequence[tuple[str, int, int]], limit: int) -> int:
        return min(
            (offset + size for kind, offset, size in regions if kind == RegionKind.ALTERNATE and offset < limit),
            default=limit,
        )


HFSPLUS = HfsPlus()


@dataclass(frozen=True)
class _Draft:
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


@dataclass(frozen=True)
class PlannedHfsPlus(ClusterVolume):
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
