"""Looks for volumes on a drive whose sector 0 names none: where partitions usually begin, and behind one that is found.

A volume counts only where its own boot sector says that it lies there, and where all its folders can be walked.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ..common.errors import KeystoneError
from ..content.contents import SizedReadable
from ..content.extents import MIB, align_up
from ..tables.table import Partition
from ..volumes.kinds import kind_at

_USUAL = (63 * 512, 64 << 10, 128 << 10, *(MIB << shift for shift in range(6)))
"""Bytes at which partitioners begin the first partition: a track, or a round number."""
_MOST = 4
"""As many as an MBR names."""


def lost_partitions(drive: SizedReadable, sector: int) -> Sequence[Partition]:
    """Return partitions as their volumes describe them, in the order they lie on the drive; none that overlap."""
    found: list[Partition] = []
    for place in _USUAL:
        if place % sector == 0 and not _overlap(found, place // sector):
            found += _from(drive, sector, place, _MOST - len(found))
    return [
        Partition(number, each.first_lba, each.sector_count, False, True, "by its own boot sector")
        for number, each in enumerate(sorted(found, key=lambda each: each.first_lba), 1)
    ]


def _from(drive: SizedReadable, sector: int, place: int, most: int) -> Iterator[Partition]:
    """Yield the volume at byte `place`, and those that follow it closely."""
    for _ in range(most):
        each = _at(drive, sector, place)
        if each is None:
            return
        yield each
        place = align_up((each.first_lba + each.sector_count) * sector, MIB)


def _at(drive: SizedReadable, sector: int, place: int) -> Partition | None:
    size = drive.size - place
    kind = kind_at(drive, place, size) if size >= 512 else None
    if kind is None:
        return None
    try:
        volume = kind.open(drive, place, size)
        first, count = kind.own_span(volume)
        inside = first * sector == place and 0 < count * sector <= size
        if not inside or any(entry.faults for entry in volume.walk()):
            return None
    except KeystoneError:
        return None
    return Partition(0, first, count, False, True, "")


def _overlap(found: Sequence[Partition], first: int) -> bool:
    return any(each.first_lba <= first < each.first_lba + each.sector_count for each in found)
