"""Reads from bytes what a start looks at: of an image before it is written, say."""

from __future__ import annotations

from collections.abc import Sequence

from ..common.errors import KeystoneError, TooFarInside
from ..content.contents import SizedReadable
from ..tables.table import Partition, read_table
from ..volumes.kinds import kind_at, open_volume
from .bootable import ReadBootVolume, ReadDrive

MOST_VOLUMES = 8
"""Looked into; a forged table may name the same volume in every entry."""


def whole_drive(drive: SizedReadable, sector_size: int) -> Partition:
    """Return a partition over all of a drive without a table."""
    return Partition(1, 0, drive.size // sector_size, False, True, "no table")


def read_drive(drive: SizedReadable, sector_size: int, looked_at: str) -> ReadDrive:
    """Return the view of a drive's table and of every volume that can be opened; what cannot be read is left out."""
    partitions: Sequence[Partition]
    if kind_at(drive, 0, drive.size) is not None:
        table, partitions = None, (whole_drive(drive, sector_size),)
    else:
        table = read_table(drive, sector_size, primary_only=True)
        partitions = table.partitions if table else ()
    volumes: list[ReadBootVolume] = []
    unseen = ""
    for partition in partitions[:MOST_VOLUMES]:
        offset = partition.first_lba * sector_size
        size = min(partition.sector_count * sector_size, drive.size - offset)
        try:
            if size >= 512 and kind_at(drive, offset, size) is not None:
                kind, volume = open_volume(drive, offset, size)
                volumes.append(ReadBootVolume(kind, volume, partition, drive))
        except TooFarInside as error:
            unseen = error.message.rstrip(".")
        except KeystoneError:
            continue
    return ReadDrive(table, sector_size, volumes, looked_at, unseen)
