"""Checks FAT12 and FAT16 volumes, which are never composed here: both FATs, folders and the chain of each entry."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ...content.contents import SizedReadable
from ...tables.table import Partition
from ...volumes.fat16.read import Fat16Volume
from ...volumes.fat32.read import Entry
from ..codes import Code
from ..found import FoundVolume
from ..report import Place, Report
from ..telling import REBUILD, report_lines
from .checker import WrongBlock


class Fat16Checker:
    """The checker of FAT12 and FAT16 volumes."""

    def check(self, volume: Fat16Volume, partition: Partition, sectors: int, report: Report) -> tuple[list[Entry], int]:
        number = partition.number
        if volume.boot.BPB_NumFATs == 2 and volume.fat(0) != volume.fat(1):
            report.fault(Code.FAT_COPIES_DIFFER, "FAT", "the two FATs differ.", REBUILD, Place(number))
        entries = list(volume.walk())
        faulty = [f"{entry.path or 'root folder'}: {fault}" for entry in entries for fault in entry.faults]
        report_lines(faulty, Code.VOLUME_ENTRIES, "folders", report, number)
        kind = "FAT12" if volume.is_fat12 else "FAT16"
        report.looked_at.append(f"{kind}: both FATs, {len(entries):,} entries and the chain of each")
        return entries, volume.free_clusters() * volume.cluster_size

    def added(self, volume: Any, entries: Sequence[Any], note: Any) -> list[Any]:
        raise NotImplementedError("no FAT16 volume is built here")

    def judge(
        self, drive: SizedReadable, wrong: Sequence[WrongBlock], note: Any, found: FoundVolume | None, report: Report
    ) -> None:
        raise NotImplementedError("no FAT16 volume is built here")
