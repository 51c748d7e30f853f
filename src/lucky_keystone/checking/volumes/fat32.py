"""Checks FAT32 volumes: boot sectors, both FATs, chains, folders, lost and crossed clusters; tells use from damage.

A block that differs is read once more, and what computers may change is undone in memory: new entries behind the built
ones, access dates, the mounted mark, free counts, chains of clusters that were free. If the hash then fits, the drive
was used; if not, something that was built is different.
"""

from __future__ import annotations

from collections.abc import Sequence

from blake3 import blake3

from ...common.later import np
from ...common.units import shown_size
from ...content.contents import SizedReadable
from ...content.regions import TRAITS, RegionKind
from ...tables.table import Partition
from ...volumes.fat32.read import Entry, Fat32Volume
from ...volumes.fat32.records import (
    ATTR_LONG_NAME,
    BACKUP_BOOT_SECTOR,
    BAD_CLUSTER,
    END_OF_CHAIN,
    ENTRY_SIZE,
    FIRST_CLUSTER,
    FSINFO_SECTOR,
    BootSector,
    FsInfo,
)
from ...volumes.note import Fat32Note
from ...volumes.volume import stored_hidden
from ..codes import Code
from ..found import FoundVolume
from ..report import Place, Report
from ..stores import rewritten_by_a_system
from ..telling import REBUILD, report_damage, report_hidden, report_lines, report_use
from .checker import WrongBlock
from .clusters import ClusterMap

_MOUNTED_BIT = BootSector.offset_of("BS_Reserved1")


class Fat32Checker:
    """The checker of FAT32 volumes."""

    def check(self, volume: Fat32Volume, partition: Partition, sectors: int, report: Report) -> tuple[list[Entry], int]:
        number = partition.number
        _boot_sectors(volume, partition, report)
        _fats_equal(volume, number, report)
        entries, used = _tree(volume, number, report)
        free = _free_and_lost(volume, used, number, report)
        report.looked_at += [
            f"boot sectors: {volume.boot.BPB_RsvdSecCnt} reserved sectors, the copy of the first one, FSInfo",
            f"FAT: {volume.boot.BPB_NumFATs} copies with {volume.cluster_count:,} clusters "
            f"of {shown_size(volume.cluster_size)}",
            f"folders: {len(entries):,} entries and the chain of each",
        ]
        return entries, free

    def added(self, volume: Fat32Volume, entries: Sequence[Entry], note: Fat32Note) -> list[Entry]:
        return [entry for entry in entries if note.was_free(entry.first_cluster)]

    def judge(
        self,
        drive: SizedReadable,
        wrong: Sequence[WrongBlock],
        note: Fat32Note,
        found: FoundVolume | None,
        report: Report,
    ) -> None:
        used: set[str] = set()
        damaged: dict[RegionKind, list[tuple[int, int]]] = {}
        volume = found.volume if found else None
        for region, offset, size, digest in wrong:
            data = bytearray(drive.read_at(offset, size))
            if isinstance(volume, Fat32Volume):  # what is there now may be another kind
                _undo_use(data, region.kind, region.offset, offset, note, volume)
            if blake3(data).digest() == digest:
                used.add(TRAITS[region.kind].area)
            else:
                damaged.setdefault(region.kind, []).append((offset, size))
        stores = damaged.get(RegionKind.OWN_FILES)
        if stores and found is not None and rewritten_by_a_system(found, stores):
            del damaged[RegionKind.OWN_FILES]
            used.add("boot stores")
        report_damage(damaged, found, report)
        if used:
            new = self.added(volume, found.entries, note) if found and isinstance(volume, Fat32Volume) else []  # type: ignore[arg-type]
            paths = [entry.path for entry in new if "/" not in entry.path]
            number = found.partition.number if found else None
            report_use(used, paths, report, rest_is_whole=not damaged, number=number)


def _boot_sectors(volume: Fat32Volume, partition: Partition, report: Report) -> None:
    boot, number = volume.boot, partition.number
    hidden = stored_hidden(partition.first_lba)
    if boot.BPB_HiddSec != hidden:
        report_hidden("BPB_HiddSec", boot.BPB_HiddSec, hidden, volume, number, report)
    if 0 < boot.BPB_BkBootSec < boot.BPB_RsvdSecCnt:
        first, backup = bytearray(volume.sector(0)), bytearray(volume.sector(boot.BPB_BkBootSec))
        first[_MOUNTED_BIT] = backup[_MOUNTED_BIT] = 0
        if first != backup:
            what = f"the boot sector and its copy in sector {boot.BPB_BkBootSec} differ."
            place = Place(number, volume.offset + boot.BPB_BkBootSec * volume.sector_size, volume.sector_size)
            report.fault(Code.FAT32_BOOT_COPY, "boot sectors", what, REBUILD, place)
    else:
        what = "the volume has no copy of its boot sector."
        report.note(Code.FAT32_NO_BOOT_COPY, "boot sectors", what, Place(number))
    if volume.fs_info() is None:
        what = f"the FSInfo sector ({boot.BPB_FSInfo}) is missing or damaged."
        report.fault(Code.FAT32_FSINFO, "boot sectors", what, REBUILD, Place(number))
    if boot.BS_Reserved1 & 1:
        what = "a computer marked the volume as mounted and left it so; eject before unplugging."
        report.note(Code.VOLUME_MOUNTED, "boot sectors", what, Place(number, volume.offset + _MOUNTED_BIT, 1))


def _fats_equal(volume: Fat32Volume, number: int, report: Report) -> None:
    if volume.boot.BPB_NumFATs < 2:
        report.note(Code.FAT_ONE_COPY, "FAT", "the volume has one FAT only.", Place(number))
        return
    different, first = 0, -1
    for (start, one), (_, other) in zip(volume.fat_windows(0), volume.fat_windows(1), strict=True):
        wrong = np.flatnonzero(one != other)
        different += len(wrong)
        if first < 0 and len(wrong):
            first = start + int(wrong[0])
    if different:
        what = f"the two FATs differ, in {different:,} of their entries; the first is that of cluster {first}."
        place = Place(number, volume.fat_offset() + 4 * first, 4)
        report.fault(Code.FAT_COPIES_DIFFER, "FAT", what, REBUILD, place)


def _tree(volume: Fat32Volume, number: int, report: Report) -> tuple[list[Entry], ClusterMap]:
    used = ClusterMap(volume.cluster_count + FIRST_CLUSTER)
    entries: list[Entry] = []
    faulty: list[str] = []
    for entry in volume.walk():
        entries.append(entry)
        crossed = [run for run in entry.runs if used.mark(run.first, run.count)]
        if crossed:
            faulty.append(
                f"{entry.path or 'root folder'}: shares cluster {crossed[0].first} or a later one with another file"
            )
    for entry in entries:
        faulty += [f"{entry.path or 'root folder'}: {fault}" for fault in entry.faults]
    report_lines(faulty, Code.VOLUME_ENTRIES, "folders", report, number)
    return entries, used


def _free_and_lost(volume: Fat32Volume, used: ClusterMap, number: int, report: Report) -> int:
    """Compare the FAT with the chains of files; return the bytes that are free."""
    free = lost = 0
    for start, entries in volume.fat_windows():
        skip = max(FIRST_CLUSTER - start, 0)
        inside = entries[skip:]
        taken = used.marked(start + skip, len(inside))
        free += int(np.count_nonzero(inside == 0))
        lost += int(np.count_nonzero((inside != 0) & (inside != BAD_CLUSTER) & ~taken))
    if lost:
        what = f"{lost:,} clusters ({shown_size(lost * volume.cluster_size)}) are taken but belong to no file."
        advice = "A computer was unplugged while it wrote, or the FAT is damaged: build the drive again."
        report.fault(Code.VOLUME_LOST_CLUSTERS, "FAT", what, advice, Place(number))
    info = volume.fs_info()
    if info is not None and info.FSI_Free_Count not in (free, 0xFFFF_FFFF):
        what = f"FSInfo reports {info.FSI_Free_Count:,} free clusters, there are {free:,}; systems correct that."
        report.note(Code.FAT32_FREE_COUNT, "boot sectors", what, Place(number))
    return free * volume.cluster_size


# -- undoing use -----------------------------------------------------------------------------------------------------


def _undo_use(data: bytearray, kind: RegionKind, start: int, offset: int, note: Fat32Note, volume: Fat32Volume) -> None:
    """Undo in `data`, which begins at byte `offset` of the drive, in a region that begins at `start`."""
    if kind == RegionKind.RESERVED:
        _undo_reserved(data, offset - note.offset, note, volume.sector_size)
    elif kind in (RegionKind.FAT1, RegionKind.FAT2):
        _undo_fat(data, (offset - start) // 4, note, volume.cluster_size)
    elif kind == RegionKind.FOLDERS:
        _undo_folders(data, offset, note, volume)


def _undo_reserved(data: bytearray, start: int, note: Fat32Note, sector_size: int) -> None:
    if start != 0 or len(data) < (BACKUP_BOOT_SECTOR + 2) * sector_size:
        return
    data[BootSector.offset_of("BS_Reserved1")] = 0
    for sector in (FSINFO_SECTOR, BACKUP_BOOT_SECTOR + FSINFO_SECTOR):
        at = sector * sector_size + FsInfo.offset_of("FSI_Free_Count")
        data[at : at + 4] = note.free_clusters.to_bytes(4, "little")
        data[at + 4 : at + 8] = note.next_free_cluster.to_bytes(4, "little")


def _undo_fat(data: bytearray, first_entry: int, note: Fat32Note, cluster_size: int) -> None:
    if len(data) < 8 or len(data) % 4:
        return
    entries = np.frombuffer(data, "<u4")
    for cluster, used in note.folders:  # a folder that was full has grown by a cluster that was free
        last = cluster + _cluster_count(used, cluster_size) - 1 - first_entry
        if 0 <= last < len(entries) and note.was_free(int(entries[last])):
            entries[last] = END_OF_CHAIN
    for first, count in note.free_runs():
        entries[max(first - first_entry, 0) : max(first + count - first_entry, 0)] = 0
    if first_entry == 0:
        entries[1] = END_OF_CHAIN  # its upper bits tell of a clean shutdown (fatgen103, "FAT[1]")


def _cluster_count(used: int, cluster_size: int) -> int:
    """Clusters of a folder with `used` bytes of entries."""
    return max(-(-used // cluster_size), 1)


def _undo_folders(data: bytearray, offset: int, note: Fat32Note, volume: Fat32Volume) -> None:
    for cluster, used in note.folders:
        start = volume.cluster_offset(cluster) - offset
        end = start + _cluster_count(used, volume.cluster_size) * volume.cluster_size
        if end <= 0 or start >= len(data):
            continue
        rest, stop = max(start + used, 0), min(end, len(data))
        if rest < stop:
            data[rest:stop] = bytes(stop - rest)
        for at in range(max(start, 0), min(start + used, len(data)) - ENTRY_SIZE + 1, ENTRY_SIZE):
            if data[at + 11] & 0x3F != ATTR_LONG_NAME:
                data[at + 18 : at + 20] = data[at + 24 : at + 26]  # DIR_LstAccDate is built like DIR_WrtDate
