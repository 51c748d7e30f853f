"""exFAT volumes behind a table: a tree of the tests, made here."""

from __future__ import annotations

from pathlib import Path
from uuid import UUID

from lucky_keystone.building.stream import stream_regions
from lucky_keystone.common.progress import silent
from lucky_keystone.content.tree import Folder
from lucky_keystone.tables.partition import Use, WantedPartition
from lucky_keystone.tables.styles import STYLES, TableNumbers
from lucky_keystone.volumes.exfat.kind import EXFAT
from lucky_keystone.volumes.kind import PlannedVolume

from .drives import MemoryDrive

START, MIB = 1 << 20, 1 << 20


def exfat_drive(
    root: Folder, *, size: int | None = None, cluster: int = 4096, sector: int = 512, label: str = "Pier 4"
) -> tuple[MemoryDrive, PlannedVolume]:
    """Return a drive with `root` in its one volume of `size` bytes, else as small as it can be."""
    draft = EXFAT.draft(root, label, cluster, sector)
    planned = draft.settle(START, START + size if size else draft.smallest_end(START))
    drive = MemoryDrive(planned.end + MIB)
    stream_regions(planned.regions(0x0926_1403), drive, silent)
    count = (planned.end - START) // sector
    place = WantedPartition(1, Use.IFS_DATA, False, START // sector, count, UUID(int=1), "storage")
    table = STYLES["mbr"].compose(TableNumbers(1, UUID(int=2)), [place], b"", drive.size // sector, sector)
    for offset, data in ((0, table.seal), *table.rest):
        drive.write_at(offset, memoryview(data))
    return drive, planned


def volume_file(drive: MemoryDrive, planned: PlannedVolume, folder: Path) -> Path:
    """Write the volume alone, as checkers of the system want it."""
    path = folder / "volume.img"
    path.write_bytes(drive.data[START : planned.end])
    return path
