"""Checks an NTFS volume's structure: boot sectors, file records and their mirror, folders, and both bitmaps."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...record import RecordError
from ...units import shown_size
from ...volumes.ntfs.file import File
from ...volumes.ntfs.geometry import mirrored_records
from ...volumes.ntfs.read import Entry, NtfsVolume
from ...volumes.ntfs.records import (
    FILE_NAME,
    MFT_MIRROR,
    RECORD_IN_USE,
    REFERENCE_NUMBER,
    ROOT,
    VOLUME_IS_DIRTY,
)
from ...volumes.ntfs.upcase import collation_key
from ...volumes.volume import VolumeError
from ..report import Report
from .clusters import ClusterMap

_LISTED = 8
_REBUILD = "Build the drive again; if it happens again, the drive itself is failing."
_PIECE = 1 << 16  # bytes of a bitmap looked at together


def check_ntfs(volume: NtfsVolume, hidden: int, sectors: int, report: Report) -> tuple[list[Entry], int]:
    """Check everything of `volume`, in a partition of `sectors` that starts at sector `hidden`.

    Returns its entries, the root first, and the bytes that are free.
    """
    _boot_sectors(volume, hidden, sectors, report)
    _mirror(volume, report)
    used = ClusterMap(volume.cluster_count)
    faulty: list[str] = []
    records = _records(volume, used, faulty)
    entries = list(volume.walk())
    faulty += [f"{entry.path or 'root folder'}: {fault}" for entry in entries for fault in entry.faults]
    for line in faulty[:_LISTED]:
        report.fault("folders", line.rstrip(".") + ".", "Copy off what is wanted from the drive, then build it again.")
    if len(faulty) > _LISTED:
        report.fault("folders", f"{len(faulty) - _LISTED} more records or entries are faulty.", _REBUILD)
    free = _clusters(volume, used, report)
    report.looked_at += [
        "boot sectors: the NTFS boot sector and its copy in the partition's last sector",
        f"file table: {volume.record_count:,} records, {records:,} of them in use, their bitmap, and the mirror of the first",
        f"folders: {len(entries):,} entries, each held against its file's own record",
    ]
    information = volume.information
    if information is None:
        report.fault("file table", "the volume's version cannot be read.", _REBUILD)
    elif information.flags & VOLUME_IS_DIRTY:
        report.note(
            "file table", "a host marked the volume as in use and did not take the mark off; eject before unplugging."
        )
    return entries, free


def _boot_sectors(volume: NtfsVolume, hidden: int, sectors: int, report: Report) -> None:
    boot = volume.boot
    if boot.hidden_sectors != hidden:
        report.fault(
            "boot sectors",
            f"hidden_sectors is {boot.hidden_sectors}, the partition starts at sector {hidden}.",
            "BIOS loaders will not find the volume: build the drive again.",
        )
    if boot.total_sectors != sectors - 1:
        report.fault(
            "boot sectors",
            f"total_sectors is {boot.total_sectors:,}; a partition of {sectors:,} sectors has one less.",
            "Some systems mount it read-only: build the drive again.",
        )
    last = volume.offset + (sectors - 1) * volume.sector_size
    if volume.bytes_at(last, 512) != volume.bytes_at(volume.offset, 512):
        report.fault("boot sectors", "the copy in the partition's last sector is not the boot sector.", _REBUILD)


def _mirror(volume: NtfsVolume, report: Report) -> None:
    if volume.mirror_used:
        report.fault("file table", "its first record is damaged, and was read from the mirror.", _REBUILD)
        return
    size = mirrored_records(volume.cluster_size, volume.record_size) * volume.record_size
    try:
        mirror = volume.read_stream(volume.own_stream(MFT_MIRROR), 0, size)
        count = len(mirror) // volume.record_size
        first = b"".join(volume.record_bytes(number) for number in range(count))
        fits = count >= 4 and mirror[: len(first)] == first
    except VolumeError as error:
        report.fault("file table", f"its mirror cannot be read: {error.message}", _REBUILD)
        return
    if not fits:
        report.fault("file table", "its mirror is not the same as its first records.", _REBUILD)


def _records(volume: NtfsVolume, used: ClusterMap, faulty: list[str]) -> int:
    """Go through the whole file table; mark the clusters of every file. Return how many records are in use."""
    in_use: list[int] = []
    marked = _marked_records(volume)
    named: set[int] = {ROOT}
    bases: list[tuple[int, bool]] = []
    for number in range(volume.record_count):
        try:
            record = volume.record(number)
        except VolumeError as error:
            if number in marked:
                faulty.append(error.message)
            continue
        in_use_here = bool(record.header.flags & RECORD_IN_USE)
        if in_use_here != (number in marked):
            told = "in use" if in_use_here else "free"
            faulty.append(f"File record {number} is {told}, its bit in the file table says otherwise")
        if not in_use_here:
            continue
        in_use.append(number)
        if record.header.base & REFERENCE_NUMBER:
            continue
        try:
            file = volume.file(number)
            _mark(file, used, faulty)
            bases.append((number, any(attribute.type == FILE_NAME for attribute in file.attributes)))
            if file.is_folder:
                named.update(_children(volume, number, faulty))
        except VolumeError as error:
            faulty.append(error.message)
        except RecordError as error:
            faulty.append(f"File record {number}: {error.message}")
    faulty += [
        f"File record {number} stands in no folder" for number, has_name in bases if has_name and number not in named
    ]
    return len(in_use)


def _marked_records(volume: NtfsVolume) -> set[int]:
    stream = volume.record_bitmap()
    data = volume.read_stream(stream, 0, min(stream.size, volume.record_count // 8 + 1))
    return set(np.flatnonzero(np.unpackbits(np.frombuffer(data, np.uint8), bitorder="little")).tolist())


def _mark(file: File, used: ClusterMap, faulty: list[str]) -> None:
    for attribute in file.attributes:
        for run in attribute.runs:
            if not run.is_hole and used.mark(run.first, run.count):
                faulty.append(
                    f"File record {file.number}: shares cluster {run.first} or one behind it with another file"
                )


def _children(volume: NtfsVolume, number: int, faulty: list[str]) -> Iterator[int]:
    """Yield the file numbers in a folder, whose names have to be in order."""
    before = ("", "")
    for reference, _, name in volume.names(number):
        key = collation_key(name)
        if key < before:
            faulty.append(f"File record {number}: '{name}' is out of order in its index")
        before = key
        yield reference & REFERENCE_NUMBER


def _clusters(volume: NtfsVolume, used: ClusterMap, report: Report) -> int:
    """Hold the bitmap against the clusters that files have; return the bytes that are free."""
    try:
        stream = volume.bitmap()
    except VolumeError as error:
        report.fault("cluster map", error.message, _REBUILD)
        return 0
    if stream.size < -(-volume.cluster_count // 8):
        report.fault(
            "cluster map", f"it has {stream.size:,} bytes, too few for {volume.cluster_count:,} clusters.", _REBUILD
        )
        return 0
    free = lost = unmarked = 0
    for start in range(0, volume.cluster_count, 8 * _PIECE):
        count = min(8 * _PIECE, volume.cluster_count - start)
        data = volume.read_stream(stream, start // 8, -(-count // 8))
        bits = np.unpackbits(np.frombuffer(data, np.uint8), bitorder="little")[:count].astype(bool)
        taken = used.marked(start, count)
        free += int(np.count_nonzero(~bits))
        lost += int(np.count_nonzero(bits & ~taken))
        unmarked += int(np.count_nonzero(~bits & taken))
    if unmarked:
        report.fault(
            "cluster map",
            f"{unmarked:,} clusters of files are marked as free: writing to the drive would destroy them.",
            _REBUILD,
        )
    if lost:
        what = f"{lost:,} clusters ({shown_size(lost * volume.cluster_size)}) are taken but belong to no file."
        report.fault(
            "cluster map", what, "A host was unplugged while it wrote, or the map is damaged: build the drive again."
        )
    return free * volume.cluster_size
