"""HFS Plus answers for itself: see `volumes/kind.py`.

What composes and reads one is loaded when there is one to be made or read.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, ClassVar
from uuid import UUID

from ...boot.records import BootRecord
from ...content.contents import Readable
from ...content.regions import RegionKind
from ...content.tree import Folder
from ...tables.partition import OF_HFS_PLUS, Use
from ..kind import Draft, PlannedVolume, StandingVolume
from .geometry import Geometry, check_block_size, usual_block
from .records import HEADER_OFFSET, SIGNATURE_PLUS, SIGNATURE_X, VolumeHeader

if TYPE_CHECKING:
    from .read import HfsPlusVolume


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
    for_storage: ClassVar[bool] = False

    def label_fault(self, label: str) -> str:
        from .names import name_fault

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
        from .catalogue import catalogue
        from .layout import measure
        from .planned import DraftedHfsPlus

        check_block_size(cluster, sector_size)
        return DraftedHfsPlus(tree, label, measure(catalogue(tree, label)), cluster, sector_size)

    def again(self, tree: Folder, label: str, standing: StandingVolume) -> PlannedVolume:
        from .catalogue import catalogue
        from .layout import measure, place
        from .planned import PlannedHfsPlus

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
        from .read import HfsPlusVolume

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
