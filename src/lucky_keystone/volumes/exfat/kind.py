"""exFAT answers for itself: see `volumes/kind.py`. Firmware does not read it, so that no installer is put on it.

What composes and reads one is loaded when there is one to be made or read.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, ClassVar
from uuid import UUID

from ...boot.records import BootRecord
from ...common.errors import UsageError
from ...content.contents import Readable
from ...content.tree import Folder
from ...tables.partition import OF_EXFAT, Use
from ..kind import Draft, PlannedVolume, StandingVolume
from .geometry import Geometry, check_cluster, usual_cluster
from .records import BOOT_SECTORS, BootSector

if TYPE_CHECKING:
    from .read import ExfatVolume


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
    for_storage: ClassVar[bool] = True

    def label_fault(self, label: str) -> str:
        from .names import label_fault

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
        from .names import problems

        wrong = problems(tree)
        return wrong[0] + (f" (and {len(wrong) - 1} more)" if len(wrong) > 1 else "") if wrong else ""

    def draft(self, tree: Folder, label: str, cluster: int, sector_size: int) -> Draft:
        from .compose import clusters_of
        from .planned import DraftedExfat

        check_cluster(cluster, sector_size)
        return DraftedExfat(tree, label, cluster, sector_size, clusters_of(tree, cluster))

    def again(self, tree: Folder, label: str, standing: StandingVolume) -> PlannedVolume:
        raise UsageError("exFAT volumes are not updated.", advice="Build the drive again.")

    def recognises(self, drive: Readable, offset: int, size: int) -> bool:
        return size >= 512 and drive.read_at(offset + 3, 8) == b"EXFAT   "

    def head_copy(self, drive: Readable, offset: int, size: int) -> int | None:
        """The backup boot region begins with it (3)."""
        from .read import is_sound_region

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
        from .read import ExfatVolume

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
