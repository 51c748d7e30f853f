"""NTFS answers for itself: see `volumes/kind.py`.

What composes and reads one is loaded when there is one to be made or read.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, ClassVar
from uuid import UUID

from ...boot.records import NTFS_RECORD, BootRecord
from ...content.contents import Readable
from ...content.regions import RegionKind
from ...content.tree import Folder
from ...tables.partition import OF_NTFS, Use
from ..kind import Draft, PlannedVolume, StandingVolume
from .geometry import USUAL_CLUSTER, Geometry, check_cluster_size, record_size
from .records import BootSector

if TYPE_CHECKING:
    from .read import NtfsVolume


class Ntfs:
    """NTFS, which BIOS boot code of ours and the crossing read."""

    name: ClassVar[str] = "ntfs"
    shown: ClassVar[str] = "NTFS"
    serial_size: ClassVar[int] = 8
    use: ClassVar[Use] = Use.IFS_DATA
    firmware_reads: ClassVar[bool] = False
    names_loaders: ClassVar[bool] = False
    head: ClassVar[tuple[int, str]] = (0, "boot sector")
    partition_types: ClassVar[frozenset[int | UUID]] = OF_NTFS
    boot_record: ClassVar[BootRecord | None] = NTFS_RECORD
    checked_with: ClassVar[str] = "'chkdsk /f' on it in Windows"
    label_rule: ClassVar[str] = "up to 32 characters"
    for_storage: ClassVar[bool] = True

    def label_fault(self, label: str) -> str:
        from .names import label_fault

        return label_fault(label)

    def stored_label(self, label: str) -> str:
        return label

    def usual_cluster(self, volume_size: int, sector_size: int) -> int:
        return max(USUAL_CLUSTER, sector_size)

    def check_cluster(self, size: int, sector_size: int) -> None:
        check_cluster_size(size, sector_size)

    def reach(self, sectors: int) -> int:
        return sectors

    def obstacle(self, tree: Folder) -> str:
        return ""

    def draft(self, tree: Folder, label: str, cluster: int, sector_size: int) -> Draft:
        from .catalogue import catalogue
        from .planned import DraftedNtfs

        check_cluster_size(cluster, sector_size)
        return DraftedNtfs(tree, label, catalogue(tree, label, record_size(sector_size)), cluster, sector_size)

    def again(self, tree: Folder, label: str, standing: StandingVolume) -> PlannedVolume:
        from .catalogue import catalogue
        from .layout import place
        from .planned import PlannedNtfs

        shape: Geometry = standing.geometry
        layout = place(catalogue(tree, label, shape.record_size), shape, standing.places)
        return PlannedNtfs(tree, label, layout, shape)

    def recognises(self, drive: Readable, offset: int, size: int) -> bool:
        return size >= 512 and drive.read_at(offset + 3, 8) == b"NTFS    "

    def head_copy(self, drive: Readable, offset: int, size: int) -> int | None:
        """The partition's last sector has it."""
        for sector in (512, 4096):
            copy = offset + size // sector * sector - sector
            if copy <= offset or not self.recognises(drive, copy, sector):
                continue
            boot = BootSector.unpack(drive.read_at(copy, 512))
            if boot.bytes_per_sector == sector and boot.total_sectors == size // sector - 1:
                return copy
        return None

    def fitted(self, drive: Readable, offset: int, size: int) -> Sequence[tuple[int, bytes]]:
        return ()

    def sector_size_at(self, drive: Readable, offset: int) -> int:
        return BootSector.unpack(drive.read_at(offset, 512)).bytes_per_sector

    def own_span(self, volume: NtfsVolume) -> tuple[int, int]:
        return volume.boot.hidden_sectors, volume.boot.total_sectors + 1

    def open(self, drive: Readable, offset: int, size: int) -> NtfsVolume:
        from .read import NtfsVolume

        return NtfsVolume(drive, offset, size)

    def geometry_of(self, volume: NtfsVolume) -> Geometry:
        hidden = volume.offset // volume.sector_size
        return Geometry(volume.sector_size, volume.cluster_size, hidden, volume.boot.total_sectors + 1)

    def partition_end(self, regions: Sequence[tuple[str, int, int]], limit: int) -> int:
        return min(
            (offset + size for kind, offset, size in regions if kind == RegionKind.BOOTCOPY and offset < limit),
            default=limit,
        )


NTFS = Ntfs()
