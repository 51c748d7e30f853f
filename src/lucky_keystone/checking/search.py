"""Finds the volumes of a drive, reads each, and looks into it: also where a head is lost and its copy is there."""

from __future__ import annotations

from collections.abc import Sequence

from ..common.errors import KeystoneError
from ..content.contents import SizedReadable
from ..starting.reading import MOST_VOLUMES
from ..tables.table import Partition
from ..volumes.kind import VolumeKind
from ..volumes.kinds import KINDS, kind_at, open_volume
from ..volumes.known import disc_size, known_at
from ..volumes.volume import Volume, VolumeError
from .codes import Code
from .found import FoundVolume, has_entry
from .report import Place, Report, VolumeSummary
from .views import Patched
from .volumes.checkers import CHECKERS

_REBUILD = "Build the drive again."
_SETUP = ("bootmgr", "sources/boot.wim")
"""What a volume has that Windows' setup is started from, which has to find it again."""


def find_volumes(
    drive: SizedReadable, partitions: Sequence[Partition], sector: int, report: Report
) -> list[FoundVolume]:
    """Read and check the volumes of all partitions that hold one, or should by their type."""
    found: list[FoundVolume] = []
    disc = disc_size(drive)
    for partition in partitions[:MOST_VOLUMES]:
        offset = partition.first_lba * sector
        size = min(partition.sector_count * sector, drive.size - offset)
        kind = kind_at(drive, offset, size) if size >= 512 else None
        if kind is None and (known := known_at(drive, offset, size)):
            report.unknown.append(f"partition {partition.number} holds {known}, which is not supported.")
            continue
        if kind is None and offset < disc and not any(_has_copy(each, drive, offset, size) for each in KINDS.values()):
            what = f"partition {partition.number} is a part of the disc image that was written as it is."
            report.unknown.append(what)
            continue
        if kind is None and not partition.expects_volume:
            report.unknown.append(f"partition {partition.number} ({partition.type_shown}) is not examined.")
            continue
        volume = _volume(drive, partition, offset, size, sector, report)
        if volume is not None:
            found.append(volume)
    if len(partitions) > MOST_VOLUMES:
        count = len(partitions)
        report.unknown.append(f"{count - MOST_VOLUMES} of its {count} partitions were not examined.")
    return found


def _has_copy(kind: VolumeKind, drive: SizedReadable, offset: int, size: int) -> bool:
    return size >= 512 and kind.head_copy(drive, offset, size) is not None


def _with_head(drive: SizedReadable, partition: Partition, offset: int, size: int, report: Report) -> SizedReadable:
    """Return the drive, with a volume's head taken from its copy where the first one is lost, and that noted."""
    there = kind_at(drive, offset, size) if size >= 512 else None
    if size < 512 or (there is not None and _opens(there, drive, offset, size)):
        return drive
    for kind in KINDS.values():
        copy = kind.head_copy(drive, offset, size)
        if copy is not None:
            at, name = kind.head
            if there is not None and not _opens(
                kind, Patched(drive, offset + at, drive.read_at(copy, 512)), offset, size
            ):
                continue
            state = "is lost" if there is None else "is damaged"
            what = f"the {kind.shown} {name} {state}; its copy at byte {copy} is whole."
            advice = "Copy it back, or build the drive again."
            place = Place(partition.number, offset + at, 512)
            report.fault(Code.VOLUME_BOOT_SECTOR, f"{name}s", what, advice, place)
            return Patched(drive, offset + at, drive.read_at(copy, 512))
    return _fitted(drive, there, partition, offset, size, report) if there is not None else drive


def _fitted(
    drive: SizedReadable, kind: VolumeKind, partition: Partition, offset: int, size: int, report: Report
) -> SizedReadable:
    """Return the drive with a volume that ends with its partition, if all that is wrong is that it reaches beyond."""
    if partition.first_lba and partition.sector_count * (offset // partition.first_lba) > size:
        return drive  # the drive ends before the partition does: its table is wrong, or it was cut
    view, changes = drive, kind.fitted(drive, offset, size)
    for place, data in changes:
        view = Patched(view, place, data)
    if not changes or not _opens(kind, view, offset, size):
        return drive
    what = f"by its own count of sectors the {kind.shown} volume reaches beyond partition {partition.number}."
    report.fault(Code.VOLUME_BEYOND_PARTITION, f"{kind.head[1]}s", what, _REBUILD, Place(partition.number, offset, 512))
    return view


def _opens(kind: VolumeKind, drive: SizedReadable, offset: int, size: int) -> bool:
    try:
        kind.open(drive, offset, size)
    except KeystoneError:
        return False
    return True


def _type(kind: VolumeKind, volume: Volume, partition: Partition, report: Report) -> None:
    """Compare a partition's type with what is in it; that matters where Windows' setup starts from it."""
    if partition.type is None or partition.type in kind.partition_types:
        return
    what = f"partition {partition.number} holds {kind.shown}, but is marked as {partition.type_shown}"
    place = Place(partition.number)
    if any(has_entry(volume, path) for path in _SETUP):
        what += ": Windows may not mount it, so setup does not find its files."
        report.start(Code.PARTITION_TYPE, what, f"Give it the type of {kind.shown}.", place, area="table")
    else:
        report.note(Code.PARTITION_TYPE, "table", f"{what}.", place)


def _volume(
    drive: SizedReadable, partition: Partition, offset: int, size: int, sector: int, report: Report
) -> FoundVolume | None:
    """Read and check the volume in a partition; None, with a fault noted, when there is none."""
    number = partition.number
    view = _with_head(drive, partition, offset, size, report)
    try:
        kind, volume = open_volume(view, offset, size)
        entries, free = CHECKERS[kind.name].check(volume, partition, size // sector, report)
        label = volume.label()
    except VolumeError as error:
        report.fault(Code.VOLUME_UNREADABLE, "boot sectors", error.message, _REBUILD, Place(number, offset, 512))
        return None
    except KeystoneError as error:
        report.fault(Code.FOLDERS_UNREADABLE, "folders", error.message, _REBUILD, Place(number, offset, size))
        return None
    _type(kind, volume, partition, report)
    folders = sum(entry.is_folder for entry in entries)
    files = len(entries) - folders
    report.volumes.append(VolumeSummary(kind.shown, label, offset, files, folders - 1, free))
    return FoundVolume(partition, kind, volume, entries, firmware_sees_it=view is drive)
