"""Holds every byte against the manifest, and tells what a host changed by using the drive from damage.

A block whose hash differs is read once more, and what hosts may change is undone in memory: new entries behind the
built ones, access dates, the mounted mark, free counts, chains of clusters that were free. If the hash then fits,
the drive was used; if not, something that was built is different.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from blake3 import blake3

from ..content import Tell
from ..drives.medium import Medium
from ..drives.readback import read_back
from ..manifest.format import Manifest, RegionNote, VolumeNote
from ..volumes.fat32.read import Fat32Volume
from ..volumes.fat32.records import (
    ATTR_LONG_NAME,
    BACKUP_BOOT_SECTOR,
    END_OF_CHAIN,
    ENTRY_SIZE,
    FSINFO_SECTOR,
    BootSector,
    FsInfo,
)
from ..volumes.ntfs.essence import changed_records
from .found import FoundFat32, FoundNtfs, FoundVolume
from .report import Report

_LISTED = 8
_AREAS = {
    "table": "table",
    "gpt": "table",
    "reserved": "boot sectors",
    "fat1": "FAT",
    "fat2": "FAT",
    "boot": "boot sectors",
    "bootcopy": "boot sectors",
    "mft": "file table",
    "log": "log",
    "bitmap": "cluster map",
    "folders": "folders",
    "files": "files",
}


def check_contents(drive: Medium, manifest: Manifest, tell: Tell) -> list[tuple[RegionNote, int, int, bytes]]:
    """Read everything the manifest covers; return the blocks that differ (region, offset, size, hash)."""
    blocks = list(manifest.blocks())
    wrong = read_back([(offset, size, digest) for _, offset, size, digest in blocks], drive, tell, "checking contents")
    return [blocks[index] for index in wrong]


def judge(
    drive: Medium,
    manifest: Manifest,
    wrong: Sequence[tuple[RegionNote, int, int, bytes]],
    volumes: Sequence[FoundVolume],
    report: Report,
) -> None:
    """Add a finding for each block of `wrong`: used by a host, or different from what was built."""
    notes = sorted(manifest.about.volumes, key=lambda note: note.offset)
    by_volume: dict[int, list[tuple[RegionNote, int, int, bytes]]] = {}
    for block in wrong:
        number = max((index for index, note in enumerate(notes) if note.offset <= block[1]), default=0)
        by_volume.setdefault(number, []).append(block)  # what lies in front of all volumes goes with the first
    for number, blocks in by_volume.items():
        note = notes[number]
        found = next((found for found in volumes if found.volume.offset == note.offset), None)
        if isinstance(found, FoundNtfs):
            _judge_ntfs(blocks, note, found, report)
        else:
            _judge_fat32(drive, blocks, note, found, report)


def _judge_fat32(
    drive: Medium,
    wrong: Sequence[tuple[RegionNote, int, int, bytes]],
    note: VolumeNote,
    found: FoundFat32 | None,
    report: Report,
) -> None:
    used: set[str] = set()
    damaged: dict[str, list[tuple[int, int]]] = {}
    for region, offset, size, digest in wrong:
        data = bytearray(drive.read_at(offset, size))
        _undo_use(data, region, offset, note, found.volume if found else None)
        if blake3(data).digest() == digest:
            used.add(_AREAS[region.kind])
        else:
            damaged.setdefault(region.kind, []).append((offset, size))
    _tell_damage(damaged, found, report)
    if used:
        entries = found.entries if found else ()
        added = [entry.path for entry in entries if note.was_free(entry.first_cluster) and "/" not in entry.path]
        _tell_use(used, added, report, rest_is_whole=not damaged)


_CHANGED_BY_USE = ("mft", "log", "bitmap", "folders")


def _judge_ntfs(
    wrong: Sequence[tuple[RegionNote, int, int, bytes]], note: VolumeNote, found: FoundNtfs, report: Report
) -> None:
    """Hosts rewrite most of NTFS's own structures; that they are sound was checked, and what was built is known by its essence."""
    damaged: dict[str, list[tuple[int, int]]] = {}
    for region, offset, size, _ in wrong:
        if region.kind not in _CHANGED_BY_USE:
            damaged.setdefault(region.kind, []).append((offset, size))
    _tell_damage(damaged, found, report)
    used = {_AREAS[region.kind] for region, _, _, _ in wrong if region.kind in _CHANGED_BY_USE}
    if not used:
        return
    changed, added = changed_records(found.volume, note.records)
    if changed:
        names = {entry.number: entry.path for entry in found.entries}
        listed = ", ".join(names.get(number, f"file record {number}") for number in changed[:_LISTED])
        more = f" and {len(changed) - _LISTED} more" if len(changed) > _LISTED else ""
        report.fault(
            "file table",
            f"not as built: {listed}{more}.",
            "They were removed, moved or replaced by hand, or the drive lost data: build the drive again.",
        )
    new = set(added)
    paths = [entry.path for entry in found.entries if entry.number in new and "/" not in entry.path]
    _tell_use(used, paths, report, rest_is_whole=not damaged and not changed)


def _tell_damage(damaged: dict[str, list[tuple[int, int]]], found: FoundVolume | None, report: Report) -> None:
    for kind, places in damaged.items():
        if kind == "files":
            _damaged_files(places, found, report)
            continue
        where = ", ".join(f"{offset}-{offset + size - 1}" for offset, size in places[:3])
        report.fault(
            _AREAS[kind],
            f"{_name(kind)} not as built (bytes {where}).",
            "Something was removed or replaced by hand, or the drive lost data: build the drive again.",
        )


def _name(kind: str) -> str:
    return {
        "table": "sector 0 is",
        "gpt": "the GPT is",
        "reserved": "the boot sectors are",
        "fat1": "the first FAT is",
        "fat2": "the second FAT is",
        "boot": "the boot sectors are",
        "bootcopy": "the copy of the boot sector is",
        "mft": "the file table is",
        "log": "the log is",
        "bitmap": "the cluster map is",
        "folders": "the folders are",
    }[kind]


def _tell_use(used: set[str], added: Sequence[str], report: Report, *, rest_is_whole: bool) -> None:
    text = ", ".join(added[:_LISTED]) + (f" and {len(added) - _LISTED} more" if len(added) > _LISTED else "")
    what = "changed by a host that used the drive" + (
        "; everything that was built is unchanged." if rest_is_whole else "."
    )
    report.used(", ".join(sorted(used)), what + (f" New on it: {text}." if added else ""))


def _damaged_files(places: Sequence[tuple[int, int]], found: FoundVolume | None, report: Report) -> None:
    for offset, size in places[:_LISTED]:
        inside = _files_at(found, offset, size) if found else []
        names = ", ".join(inside[:3]) + (f" or {len(inside) - 3} more" if len(inside) > 3 else "")
        report.fault(
            "files",
            f"bytes {offset} to {offset + size - 1} are not as built: {names or 'no file is there now'}.",
            "The file was changed or the drive lost data: build the drive again.",
        )
    if len(places) > _LISTED:
        report.fault(
            "files",
            f"{len(places) - _LISTED} more blocks are not as built.",
            "Build the drive again, or on another drive.",
        )


def _files_at(found: FoundVolume, offset: int, size: int) -> list[str]:
    first, last = found.volume.cluster_at(offset), found.volume.cluster_at(offset + size - 1)
    return [
        e.path
        for e in found.entries
        if not e.is_folder and any(r.first <= last and r.first + r.count > first for r in e.runs)
    ]


# -- undoing use -----------------------------------------------------------------------------------------------------


def _undo_use(data: bytearray, region: RegionNote, offset: int, note: VolumeNote, volume: Fat32Volume | None) -> None:
    if volume is None:
        return
    if region.kind == "reserved":
        _undo_reserved(data, offset - note.offset, note, volume.sector_size)
    elif region.kind in ("fat1", "fat2"):
        _undo_fat(data, (offset - region.offset) // 4, note, volume.cluster_size)
    elif region.kind == "folders":
        _undo_folders(data, offset, note, volume)


def _undo_reserved(data: bytearray, start: int, note: VolumeNote, sector_size: int) -> None:
    if start != 0 or len(data) < (BACKUP_BOOT_SECTOR + 2) * sector_size:
        return
    data[BootSector.offset_of("BS_Reserved1")] = 0
    for sector in (FSINFO_SECTOR, BACKUP_BOOT_SECTOR + FSINFO_SECTOR):
        at = sector * sector_size + FsInfo.offset_of("FSI_Free_Count")
        data[at : at + 4] = note.free_clusters.to_bytes(4, "little")
        data[at + 4 : at + 8] = note.next_free_cluster.to_bytes(4, "little")


def _undo_fat(data: bytearray, first_entry: int, note: VolumeNote, cluster_size: int) -> None:
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


def _undo_folders(data: bytearray, offset: int, note: VolumeNote, volume: Fat32Volume) -> None:
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
