"""Describes a drive that is ordinary storage again: one empty volume over all that its table can say."""

from __future__ import annotations

from ..boot.records import mbr_code
from ..drives.host import Span
from ..errors import UsageError
from ..extents import MIB
from ..planning.plan import DriveShape
from ..planning.volumes import FileSystem, default_cluster_size, draft
from ..tables.mbr import TYPE_FAT32_LBA, TYPE_NTFS, MbrPartition, compose_mbr
from ..tree import EPOCH, Folder
from ..units import exact_size
from ..volumes.fat32.names import label_fault
from ..volumes.ntfs.names import label_fault as ntfs_label_fault
from .compose import DriveImage, regions_of, serial_of
from .identity import Identity

_MOST_MBR_SECTORS = 1 << 32


def compose_storage(
    drive: DriveShape, label: str, cluster: int | None, file_system: FileSystem = "fat32"
) -> DriveImage:
    """Describe `drive` as ordinary storage. Raises UsageError for a label or cluster size that the file system does not take.

    It is written like any drive, cleared first and sealed last, but carries no manifest: what comes onto it is not
    ours.
    Its boot code stays: a computer that tries to start from it says why it does not.
    """
    assert drive.size is not None
    label = label.upper() if file_system == "fat32" else label
    fault = (label_fault if file_system == "fat32" else ntfs_label_fault)(label)
    if fault:
        raise UsageError(f"The label '{label}' {fault}.", advice="Choose up to 11 letters and digits.")
    sector = drive.sector_size
    available = min(drive.size // sector, _MOST_MBR_SECTORS) * sector // MIB * MIB
    if available < 8 * MIB:
        raise UsageError(f"{exact_size(drive.size)} are too few for a volume.", advice="Use a larger drive.")
    cluster_size = cluster or default_cluster_size(file_system, available, sector)
    volume = draft("installer", file_system, Folder("", EPOCH), label, cluster_size, sector).settle(MIB, available)
    identity = Identity("storage", drive.name, drive.size, sector, label, cluster_size, file_system)
    regions = regions_of(volume, serial_of(volume, identity))
    kind = TYPE_NTFS if file_system == "ntfs" else TYPE_FAT32_LBA
    partition = MbrPartition(1, False, kind, volume.geometry.hidden, volume.geometry.total)
    return DriveImage(
        size=drive.size,
        sector_size=sector,
        seal=compose_mbr(mbr_code(), identity.number("disk signature"), [partition], sector),
        regions=tuple(regions),
        manifest_offset=0,
        manifest_room=0,
        first_partition=MIB,
        about={"storage": label},
        partitions=(Span(1, MIB, volume.size),),
    )
