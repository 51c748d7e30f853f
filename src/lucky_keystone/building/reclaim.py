"""Gives a drive back to ordinary storage: a table and one empty FAT32 volume over all of it."""

from __future__ import annotations

from ..boot.records import fat32_boot_sector, fat32_further_code, mbr_code
from ..drives.host import Span
from ..errors import UsageError
from ..extents import MIB
from ..planning.plan import DriveShape
from ..tables.mbr import TYPE_FAT32_LBA, MbrPartition, compose_mbr
from ..tree import EPOCH, Folder
from ..units import exact_size
from ..volumes.fat32.compose import compose, lay_out
from ..volumes.fat32.geometry import default_cluster_size, geometry
from ..volumes.fat32.names import label_fault
from .compose import DriveImage
from .identity import Identity

_MOST_MBR_SECTORS = 1 << 32


def compose_storage(drive: DriveShape, label: str, cluster: int | None) -> DriveImage:
    """Describe `drive` as ordinary storage. Raises UsageError for a label or cluster size that FAT32 does not take.

    It is written like any drive, cleared first and sealed last, but carries no manifest: what comes onto it is not ours.
    Its boot code stays: a computer that tries to start from it says why it does not.
    """
    assert drive.size is not None
    label = label.upper()
    fault = label_fault(label)
    if fault:
        raise UsageError(f"The label '{label}' {fault}.", advice="Choose up to 11 letters and digits.")
    sector = drive.sector_size
    available = min(drive.size // sector, _MOST_MBR_SECTORS) * sector // MIB * MIB
    if available < 2 * MIB:
        raise UsageError(f"{exact_size(drive.size)} are too few for a FAT32 volume.", advice="Use a larger drive.")
    cluster_size = cluster or default_cluster_size(available, sector)
    shape = geometry(hidden=MIB // sector, total=(available - MIB) // sector, sector_size=sector, cluster_size=cluster_size)
    layout = lay_out(Folder("", EPOCH), label, cluster_size)
    identity = Identity("storage", drive.name, drive.size, sector, label, cluster_size)
    regions = compose(
        layout, shape, serial=identity.number("volume serial"), boot_sector=fat32_boot_sector(), further_code=fat32_further_code()
    )
    partition = MbrPartition(1, False, TYPE_FAT32_LBA, shape.hidden, shape.total)
    return DriveImage(
        size=drive.size,
        sector_size=sector,
        seal=compose_mbr(mbr_code(), identity.number("disk signature"), [partition], sector),
        regions=tuple(regions),
        manifest_offset=0,
        manifest_room=0,
        first_partition=MIB,
        about={"storage": label},
        partitions=(Span(1, MIB, shape.total * sector),),
    )
