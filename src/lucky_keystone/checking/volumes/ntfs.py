"""Checks NTFS volumes: boot sectors, file records and their mirror, folders, both bitmaps; tells use from damage.

Systems rewrite most of NTFS's own structures whenever they use a volume; that these are sound is checked, and what was
built is known by the essence of each file record (volumes/ntfs/essence.py).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ...common.later import np
from ...common.record import RecordError
from ...common.units import counted, shown_size
from ...content.contents import SizedReadable
from ...content.regions import TRAITS, RegionKind
from ...tables.table import Partition
from ...volumes.note import NtfsNote
from ...volumes.ntfs.essence import changed_records
from ...volumes.ntfs.file import FileRecords
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
from ...volumes.volume import VolumeError, stored_hidden
from ..codes import Code
from ..found import FoundVolume
from ..report import Place, Report
from ..telling import LISTED, REBUILD, report_damage, report_hidden, report_lines, report_use
from .checker import WrongBlock
from .clusters import ClusterMap, compare_bitmap

_CHANGED_BY_USE = (RegionKind.MFT, RegionKind.LOG, RegionKind.BITMAP, RegionKind.FOLDERS)


class NtfsChecker:
    """The checker of NTFS volumes."""

    def check(self, volume: NtfsVolume, partition: Partition, sectors: int, report: Report) -> tuple[list[Entry], int]:
        number = partition.number
        _boot_sectors(volume, partition, sectors, report)
        _mirror(volume, number, report)
        used = ClusterMap(volume.cluster_count)
        faulty: list[str] = []
        records = _records(volume, used, faulty)
        entries = list(volume.walk())
        faulty += [f"{entry.path or 'root folder'}: {fault}" for entry in entries for fault in entry.faults]
        report_lines(faulty, Code.VOLUME_ENTRIES, "folders", report, number)
        free = _clusters(volume, used, number, report)
        report.looked_at += [
            "boot sectors: the NTFS boot sector and its copy in the partition's last sector",
            f"MFT: {volume.record_count:,} records, {records:,} of them in use, their bitmap, "
            "and the mirror of the first",
            f"folders: {len(entries):,} entries, each compared with its file record",
        ]
        information = volume.information
        if information is None:
            report.fault(Code.NTFS_VERSION, "MFT", "the volume's version cannot be read.", REBUILD, Place(number))
        elif information.flags & VOLUME_IS_DIRTY:
            what = "a computer marked the volume as in use and left it so; eject before unplugging."
            report.note(Code.VOLUME_MOUNTED, "MFT", what, Place(number))
        return entries, free

    def added(self, volume: NtfsVolume, entries: Sequence[Entry], note: NtfsNote) -> list[Entry]:
        changed, added = changed_records(volume, note.records)
        new = {*changed, *added}
        return [entry for entry in entries if entry.number in new]

    def judge(
        self,
        drive: SizedReadable,
        wrong: Sequence[WrongBlock],
        note: NtfsNote,
        found: FoundVolume | None,
        report: Report,
    ) -> None:
        damaged: dict[RegionKind, list[tuple[int, int]]] = {}
        volume = found.volume if found else None
        is_read = isinstance(volume, NtfsVolume)
        for region, offset, size, _ in wrong:
            if region.kind not in _CHANGED_BY_USE or not is_read:
                damaged.setdefault(region.kind, []).append((offset, size))
        if note.runs and found is not None and isinstance(volume, NtfsVolume):
            # Whoever changes a file's bytes leaves traces in its record; a drive that loses bytes does not.
            noted = any(region.kind is RegionKind.MFT for region, _, _, _ in wrong)
            if noted and _has_run(volume, note, damaged.pop(RegionKind.FILES, []), found, report):
                report_damage(damaged, found, report)
                return
        report_damage(damaged, found, report)
        used = {TRAITS[region.kind].area for region, _, _, _ in wrong if region.kind in _CHANGED_BY_USE}
        if not used or not isinstance(volume, NtfsVolume) or found is None:
            return
        number = found.partition.number
        entries: Sequence[Entry] = found.entries  # type: ignore[assignment]
        changed, added = changed_records(volume, note.records)
        if changed:
            names = {entry.number: entry.path for entry in entries}
            words = [names.get(record, f"file record {record}") for record in changed]
            more = f" and {len(changed) - LISTED} more" if len(changed) > LISTED else ""
            report.fault(
                Code.CONTENT_RECORDS,
                "MFT",
                f"changed since the build: {', '.join(words[:LISTED])}{more}.",
                "They were removed, moved or replaced by hand, or the drive lost data: build the drive again.",
                Place(number, file=words[0] if len(words) == 1 else ""),
            )
        new = set(added)
        paths = [entry.path for entry in entries if entry.number in new and "/" not in entry.path]
        report_use(used, paths, report, rest_is_whole=not damaged and not changed, number=number)


def _has_run(
    volume: NtfsVolume, note: NtfsNote, places: list[tuple[int, int]], found: FoundVolume, report: Report
) -> bool:
    """Say what a system changed that runs from the volume; False where nothing of what was built is changed."""
    changed, added = changed_records(volume, note.records)
    if not changed and not places:
        return False
    what = (
        f"{len(changed):,} files were changed, moved or removed since the build, {len(added):,} are new, and "
        f"{counted(len(places), 'block')} of files have other bytes, as a system does that runs from the drive. "
        "Whether any of it is damage is unknown; the volume's structure was examined."
    )
    report.used("files", what, Place(volume=found.partition.number))
    return True


def _boot_sectors(volume: NtfsVolume, partition: Partition, sectors: int, report: Report) -> None:
    boot, number, hidden = volume.boot, partition.number, stored_hidden(partition.first_lba)
    if boot.hidden_sectors != hidden:
        report_hidden("hidden_sectors", boot.hidden_sectors, hidden, volume, number, report)
    end = volume.offset + boot.total_sectors * volume.sector_size
    if boot.total_sectors < sectors - 1 and volume.bytes_at(end, 512) == volume.bytes_at(volume.offset, 512):
        what = f"the volume has {boot.total_sectors + 1:,} sectors, its partition {sectors:,}; both are sound."
        report.note(Code.NTFS_TOTAL_SECTORS, "boot sectors", what, Place(number, volume.offset, 512))
        return
    if boot.total_sectors != sectors - 1:
        report.fault(
            Code.NTFS_TOTAL_SECTORS,
            "boot sectors",
            f"total_sectors is {boot.total_sectors:,}; a partition of {sectors:,} sectors has one less.",
            "Some systems mount it read-only: build the drive again.",
            Place(number, volume.offset, 512),
        )
    last = volume.offset + (sectors - 1) * volume.sector_size
    if volume.bytes_at(last, 512) != volume.bytes_at(volume.offset, 512):
        what = "the copy in the partition's last sector is not the boot sector."
        report.fault(Code.NTFS_BOOT_COPY, "boot sectors", what, REBUILD, Place(number, last, 512))


def _mirror(volume: NtfsVolume, number: int, report: Report) -> None:
    if volume.mirror_used:
        what = "its first record is damaged, and was read from the mirror."
        report.fault(Code.NTFS_MFT_START, "MFT", what, REBUILD, Place(number))
        return
    size = mirrored_records(volume.cluster_size, volume.record_size) * volume.record_size
    try:
        mirror = volume.read_stream(volume.own_stream(MFT_MIRROR), 0, size)
        count = len(mirror) // volume.record_size
        first = b"".join(volume.record_bytes(number) for number in range(count))
        fits = count >= 4 and mirror[: len(first)] == first
    except VolumeError as error:
        what = f"its mirror cannot be read: {error.message}"
        report.fault(Code.NTFS_MIRROR, "MFT", what, REBUILD, Place(number))
        return
    if not fits:
        what = "its mirror is not the same as its first records."
        report.fault(Code.NTFS_MIRROR, "MFT", what, REBUILD, Place(number))


def _records(volume: NtfsVolume, used: ClusterMap, faulty: list[str]) -> int:
    """Go through the whole MFT; mark the clusters of every file. Return how many records are in use."""
    count, in_use = volume.record_count, 0
    marked = _marked_records(volume)
    # A byte for each record: there may be millions.
    named, has_name = bytearray(count), bytearray(count)
    named[ROOT : ROOT + 1] = b"\1"
    for number in range(count):
        try:
            record = volume.record(number)
        except VolumeError as error:
            if marked[number]:
                faulty.append(error.message)
            continue
        in_use_here = bool(record.header.flags & RECORD_IN_USE)
        if in_use_here != bool(marked[number]):
            words = "in use" if in_use_here else "free"
            faulty.append(f"File record {number} is {words}, its bit in the MFT says otherwise")
        if not in_use_here:
            continue
        in_use += 1
        if record.header.base & REFERENCE_NUMBER:
            continue
        try:
            file = volume.file(number)
            _mark(file, used, faulty)
            has_name[number] = any(attribute.type == FILE_NAME for attribute in file.attributes)
            for child in _children(volume, number, faulty) if file.is_folder else ():
                if child < count:
                    named[child] = 1
        except VolumeError as error:
            faulty.append(error.message)
        except RecordError as error:
            faulty.append(f"File record {number}: {error.message}")
    faulty += [f"File record {number} is in no folder" for number in range(count) if has_name[number] > named[number]]
    return in_use


def _marked_records(volume: NtfsVolume) -> bytes:
    """Return a byte for each record: 1 where its bit is set."""
    stream, count = volume.record_bitmap(), volume.record_count
    data = volume.read_stream(stream, 0, min(stream.size, count // 8 + 1))
    return np.unpackbits(np.frombuffer(data, np.uint8), bitorder="little").tobytes()[:count].ljust(count, b"\0")


def _mark(file: FileRecords, used: ClusterMap, faulty: list[str]) -> None:
    for attribute in file.attributes:
        for run in attribute.runs:
            if not run.is_hole and used.mark(run.first, run.count):
                faulty.append(f"File record {file.number}: shares cluster {run.first} or a later one with another file")


def _children(volume: NtfsVolume, number: int, faulty: list[str]) -> Iterator[int]:
    """Yield the file numbers in a folder, whose names have to be in order."""
    before = ("", "")
    for reference, _, name in volume.names(number):
        key = collation_key(name)
        if key < before:
            faulty.append(f"File record {number}: '{name}' is out of order in its index")
        before = key
        yield reference & REFERENCE_NUMBER


def _clusters(volume: NtfsVolume, used: ClusterMap, number: int, report: Report) -> int:
    """Compare the bitmap with the clusters that files have; return the bytes that are free."""
    try:
        stream = volume.bitmap()
    except VolumeError as error:
        report.fault(Code.NTFS_BITMAP, "allocation bitmap", error.message, REBUILD, Place(number))
        return 0
    if stream.size < -(-volume.cluster_count // 8):
        what = f"it has {stream.size:,} bytes, too few for {volume.cluster_count:,} clusters."
        report.fault(Code.NTFS_BITMAP, "allocation bitmap", what, REBUILD, Place(number))
        return 0
    found = compare_bitmap(
        lambda offset, size: volume.read_stream(stream, offset, size), volume.cluster_count, used, "little"
    )
    if found.unmarked:
        what = f"{found.unmarked:,} clusters of files are marked as free: writing to the drive would destroy them."
        report.fault(Code.NTFS_BITMAP, "allocation bitmap", what, REBUILD, Place(number))
    if found.lost:
        what = (
            f"{found.lost:,} clusters ({shown_size(found.lost * volume.cluster_size)}) are taken but belong to no file."
        )
        advice = "A computer was unplugged while it wrote, or the map is damaged: build the drive again."
        report.fault(Code.VOLUME_LOST_CLUSTERS, "allocation bitmap", what, advice, Place(number))
    return found.free * volume.cluster_size
