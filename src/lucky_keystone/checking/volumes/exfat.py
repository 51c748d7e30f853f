"""Checks exFAT volumes: both boot regions and their sums, FAT, bitmap, up-case table, folders and every entry set.

Such volumes are composed for ordinary storage alone, without a manifest: use by a computer cannot be told from damage.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ...common.units import shown_size
from ...content.contents import SizedReadable
from ...tables.table import Partition
from ...volumes.chains import FIRST_CLUSTER
from ...volumes.exfat.read import Entry, ExfatVolume, is_sound_region
from ...volumes.exfat.records import BOOT_SECTORS, MEDIA_FAILURE, VOLUME_DIRTY, BootSector
from ..codes import Code
from ..found import FoundVolume
from ..report import Place, Report
from ..telling import REBUILD, report_hidden, report_lines
from .checker import WrongBlock
from .clusters import ClusterMap, compare_bitmap

_REPAIR = "Run a file-system checker on it, or copy its files away and make the volume again."


class ExfatChecker:
    """The checker of exFAT volumes."""

    def check(self, volume: ExfatVolume, partition: Partition, sectors: int, report: Report) -> tuple[list[Entry], int]:
        number = partition.number
        _boot_regions(volume, partition, report)
        if volume.upcase is None or volume.upcase.faults or volume.table is None:
            why = volume.upcase.faults[0] if volume.upcase is not None and volume.upcase.faults else "cannot be used"
            report.fault(Code.EXFAT_UPCASE, "folders", f"the up-case table {why}.", _REPAIR, Place(number))
        entries, used = _tree(volume, number, report)
        free = _bitmap(volume, used, number, report)
        report.looked_at += [
            "boot sectors: both boot regions and their sums",
            f"allocation bitmap: {volume.cluster_count:,} clusters of {shown_size(volume.cluster_size)}",
            f"folders: {len(entries):,} entries and the clusters of each, the up-case table",
        ]
        return entries, free

    def added(self, volume: Any, entries: Sequence[Any], note: Any) -> list[Any]:
        raise NotImplementedError("no exFAT volume has a manifest")

    def judge(
        self, drive: SizedReadable, wrong: Sequence[WrongBlock], note: Any, found: FoundVolume | None, report: Report
    ) -> None:
        raise NotImplementedError("no exFAT volume has a manifest")


def _boot_regions(volume: ExfatVolume, partition: Partition, report: Report) -> None:
    boot, number, size = volume.boot, partition.number, volume.sector_size
    main, backup = volume.boot_region(0), volume.boot_region(1)
    if not is_sound_region(main, size):
        what = "the boot region does not have the sum in its last sector, so systems refuse the volume."
        place = Place(number, volume.offset, BOOT_SECTORS * size)
        report.fault(Code.EXFAT_BOOT_SUM, "boot sectors", what, REBUILD, place)
    if not is_sound_region(backup, size) or _lasting(main) != _lasting(backup):
        what = "the boot region and its copy differ, or the copy is damaged."
        place = Place(number, volume.offset + BOOT_SECTORS * size, BOOT_SECTORS * size)
        report.fault(Code.EXFAT_BOOT_COPY, "boot sectors", what, REBUILD, place)
    if boot.PartitionOffset not in (0, partition.first_lba):
        report_hidden("PartitionOffset", boot.PartitionOffset, partition.first_lba, volume, number, report)
    if boot.VolumeFlags & VOLUME_DIRTY:
        what = "a computer marked the volume as being written to and left it so; eject before unplugging."
        at = BootSector.offset_of("VolumeFlags")
        report.note(Code.VOLUME_MOUNTED, "boot sectors", what, Place(number, volume.offset + at, 2))
    if boot.VolumeFlags & MEDIA_FAILURE:
        what = "a computer noted that the drive failed while this volume was used."
        report.note(Code.EXFAT_MEDIA_FAILURE, "boot sectors", what, Place(number))


def _lasting(region: bytes) -> bytes:
    """Return a boot region without what changes in use (3.1.13, 3.1.18)."""
    data = bytearray(region)
    for name, size in (("VolumeFlags", 2), ("PercentInUse", 1)):
        at = BootSector.offset_of(name)
        data[at : at + size] = bytes(size)
    return bytes(data)


def _tree(volume: ExfatVolume, number: int, report: Report) -> tuple[list[Entry], ClusterMap]:
    used = ClusterMap(volume.cluster_count)
    entries: list[Entry] = []
    faulty: list[str] = []
    own = [each for each in (volume.bitmap, volume.upcase) if each is not None]
    for entry in (*own, *volume.walk()):
        if entry not in own:
            entries.append(entry)
        crossed = [run for run in entry.runs if used.mark(run.first - FIRST_CLUSTER, run.count)]
        if crossed:
            shared = f"shares cluster {crossed[0].first} or a later one with another file"
            faulty.append(f"{entry.path or 'root folder'}: {shared}")
    for entry in entries:
        faulty += [f"{entry.path or 'root folder'}: {fault}" for fault in entry.faults]
    report_lines(faulty, Code.VOLUME_ENTRIES, "folders", report, number)
    return entries, used


def _bitmap(volume: ExfatVolume, used: ClusterMap, number: int, report: Report) -> int:
    """Compare the bitmap with the clusters of files; return the bytes that are free."""
    bitmap, count = volume.bitmap, volume.cluster_count
    if bitmap is None or bitmap.faults or bitmap.size < -(-count // 8):
        what = "the allocation bitmap is missing" if bitmap is None else "the allocation bitmap is damaged"
        report.fault(Code.EXFAT_BITMAP, "allocation bitmap", f"{what}.", _REPAIR, Place(number))
        return 0
    found = compare_bitmap(lambda at, size: volume.read_at_of(bitmap, at, size), count, used, "little")
    if found.unmarked:
        what = f"{found.unmarked:,} clusters of files are marked as free: what is written next may overwrite them."
        report.fault(Code.EXFAT_BITMAP, "allocation bitmap", what, _REPAIR, Place(number))
    if found.lost:
        what = (
            f"{found.lost:,} clusters ({shown_size(found.lost * volume.cluster_size)}) are taken but belong to no file."
        )
        report.fault(Code.VOLUME_LOST_CLUSTERS, "allocation bitmap", what, _REPAIR, Place(number))
    return found.free * volume.cluster_size
