"""Describes a drive that is ordinary storage again: one empty volume over all that its table can say."""

from __future__ import annotations

from ..common.errors import UsageError
from ..common.units import exact_size
from ..content.extents import MIB
from ..content.tree import EPOCH, Folder
from ..families.family import DriveShape, VolumeWish
from ..planning.identity import DerivedNumbers, names_of
from ..planning.plan import FittedVolume
from ..tables.styles import STYLES
from ..volumes.kinds import COMPOSED
from .compose import compose_table, serial_purpose, spans_of
from .image import DriveImage

_TABLE = "mbr"  # every system of any age reads it
_SMALLEST = 8 * MIB


def compose_storage(drive: DriveShape, label: str, cluster: int | None, file_system: str = "fat32") -> DriveImage:
    """Describe `drive` as ordinary storage. Raises UsageError for a label or cluster size that the kind does not take.

    It is written like any drive, cleared first and sealed last, but carries no manifest: what comes onto it is not
    ours.
    Its boot code stays: a computer that tries to start from it says why it does not.
    """
    assert drive.size is not None
    kind, sector = COMPOSED[file_system], drive.sector_size
    label = kind.stored_label(label)
    fault = kind.label_fault(label)
    if fault:
        raise UsageError(f"The label '{label}' {fault}.", advice=f"Use {kind.label_rule}.")
    available = kind.reach(STYLES[_TABLE].reach(drive.size // sector)) * sector // MIB * MIB
    if available < _SMALLEST:
        raise UsageError(f"{exact_size(drive.size)} are too few for a volume.", advice="Use a larger drive.")
    cluster_size = cluster or kind.usual_cluster(available, sector)
    wish = VolumeWish(name="storage", kind=kind, tree=Folder("", EPOCH), label=label, takes_rest=True, use=kind.use)
    planned = kind.draft(wish.tree, label, cluster_size, sector).settle(MIB, available)
    volume = FittedVolume(wish, planned)
    numbers = DerivedNumbers("storage", drive.name, drive.size, sector, label, cluster_size, file_system)
    return DriveImage(
        size=drive.size,
        sector_size=sector,
        seal=compose_table(names_of(numbers, (volume,), _TABLE), (volume,), drive.size, sector).seal,
        regions=tuple(planned.regions(numbers.number(serial_purpose(volume), kind.serial_size))),
        manifest_offset=None,
        manifest_room=0,
        first_content=MIB,
        about={"storage": label},
        partitions=spans_of((volume,)),
    )
