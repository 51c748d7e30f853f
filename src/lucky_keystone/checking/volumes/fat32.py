"""Checks a FAT32 volume's structure: boot sectors, both FATs, chains, folders; lost and crossed clusters."""

from __future__ import annotations

import numpy as np

from ...units import shown_size
from ...volumes.fat32.read import Entry, Fat32Volume
from ...volumes.fat32.records import BAD_CLUSTER, FIRST_CLUSTER, BootSector
from ..report import Report
from .clusters import ClusterMap

_LISTED = 8
_REBUILD = "Build the drive again; if it happens again, the drive itself is failing."
_MOUNTED_BIT = BootSector.offset_of("BS_Reserved1")


def check_fat32(volume: Fat32Volume, hidden: int, report: Report) -> tuple[list[Entry], int]:
    """Check everything of `volume`, which starts at sector `hidden`.

    Returns all entries found, the root first, and the bytes that are free.
    """
    _boot_sectors(volume, hidden, report)
    _fats_equal(volume, report)
    entries, used = _tree(volume, report)
    free = _free_and_lost(volume, used, report)
    report.looked_at += [
        f"boot sectors: {volume.boot.BPB_RsvdSecCnt} reserved sectors, the copy of the first one, FSInfo",
        f"FAT: {volume.boot.BPB_NumFATs} copies with {volume.cluster_count:,} clusters of {shown_size(volume.cluster_size)}",
        f"folders: {len(entries):,} entries and the chain of each",
    ]
    return entries, free


def _boot_sectors(volume: Fat32Volume, hidden: int, report: Report) -> None:
    boot = volume.boot
    if boot.BPB_HiddSec != hidden:
        report.fault(
            "boot sectors",
            f"BPB_HiddSec is {boot.BPB_HiddSec}, the partition starts at sector {hidden}.",
            "BIOS loaders will not find the volume: build the drive again.",
        )
    if 0 < boot.BPB_BkBootSec < boot.BPB_RsvdSecCnt:
        first, backup = bytearray(volume.sector(0)), bytearray(volume.sector(boot.BPB_BkBootSec))
        first[_MOUNTED_BIT] = backup[_MOUNTED_BIT] = 0
        if first != backup:
            report.fault(
                "boot sectors", f"the boot sector and its copy in sector {boot.BPB_BkBootSec} differ.", _REBUILD
            )
    else:
        report.note("boot sectors", "the volume has no copy of its boot sector.")
    if volume.fs_info() is None:
        report.fault("boot sectors", f"the FSInfo sector ({boot.BPB_FSInfo}) is missing or damaged.", _REBUILD)
    if boot.BS_Reserved1 & 1:
        report.note(
            "boot sectors",
            "a host marked the volume as mounted and did not take the mark off; eject before unplugging.",
        )


def _fats_equal(volume: Fat32Volume, report: Report) -> None:
    if volume.boot.BPB_NumFATs < 2:
        report.note("FAT", "the volume has one FAT only.")
        return
    different, first = 0, -1
    for (start, one), (_, other) in zip(volume.fat_windows(0), volume.fat_windows(1), strict=True):
        wrong = np.flatnonzero(one != other)
        different += len(wrong)
        if first < 0 and len(wrong):
            first = start + int(wrong[0])
    if different:
        report.fault(
            "FAT",
            f"the two FATs differ, in {different:,} of their entries; the first is that of cluster {first}.",
            _REBUILD,
        )


def _tree(volume: Fat32Volume, report: Report) -> tuple[list[Entry], ClusterMap]:
    used = ClusterMap(volume.cluster_count + FIRST_CLUSTER)
    entries: list[Entry] = []
    faulty: list[str] = []
    for entry in volume.walk():
        entries.append(entry)
        crossed = [run for run in entry.runs if used.mark(run.first, run.count)]
        if crossed:
            faulty.append(
                f"{entry.path or 'root folder'}: shares cluster {crossed[0].first} or one behind it with another file"
            )
    for entry in entries:
        faulty += [f"{entry.path or 'root folder'}: {fault}" for fault in entry.faults]
    for line in faulty[:_LISTED]:
        report.fault("folders", line + ".", "Copy off what is wanted from the drive, then build it again.")
    if len(faulty) > _LISTED:
        report.fault("folders", f"{len(faulty) - _LISTED} more entries are faulty.", _REBUILD)
    return entries, used


def _free_and_lost(volume: Fat32Volume, used: ClusterMap, report: Report) -> int:
    """Hold the FAT against the chains of files; return the bytes that are free."""
    free = lost = 0
    for start, entries in volume.fat_windows():
        skip = max(FIRST_CLUSTER - start, 0)
        inside = entries[skip:]
        taken = used.marked(start + skip, len(inside))
        free += int(np.count_nonzero(inside == 0))
        lost += int(np.count_nonzero((inside != 0) & (inside != BAD_CLUSTER) & ~taken))
    if lost:
        report.fault(
            "FAT",
            f"{lost:,} clusters ({shown_size(lost * volume.cluster_size)}) are taken but belong to no file.",
            "A host was unplugged while it wrote, or the FAT is damaged: build the drive again.",
        )
    info = volume.fs_info()
    if info is not None and info.FSI_Free_Count not in (free, 0xFFFF_FFFF):
        report.note(
            "boot sectors",
            f"FSInfo tells of {info.FSI_Free_Count:,} free clusters, there are {free:,}; hosts correct that.",
        )
    return free * volume.cluster_size
