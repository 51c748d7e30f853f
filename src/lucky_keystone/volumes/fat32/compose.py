"""Lays a tree out as a FAT32 volume: pure, metadata only.

Order on the volume: reserved sectors, both FATs, all folders, then the files in the order their bytes are in the
source, so that the source is read front to back. Every folder and file is contiguous.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from msgspec import Struct

from ...common.errors import SourceError
from ...common.later import np
from ...content.contents import Generated, Literal, Zeros
from ...content.extents import Extent, align_up
from ...content.regions import Region, RegionKind, region
from ...content.tree import EPOCH, File, Folder
from ..placing import file_regions
from ..shortnames import ShortNames, exact_short_name
from ..volume import stored_hidden
from .geometry import Geometry
from .names import label_bytes, long_entries, refuse_problems
from .records import (
    ATTR_ARCHIVE,
    ATTR_DIRECTORY,
    ATTR_VOLUME_ID,
    BACKUP_BOOT_SECTOR,
    END_OF_CHAIN,
    ENTRY_SIZE,
    FIRST_CLUSTER,
    FSINFO_SECTOR,
    FURTHER_CODE_SECTOR,
    MOST_FOLDER_ENTRIES,
    BootSector,
    DirEntry,
    FsInfo,
)

_FAT_PIECE = 1 << 18  # FAT entries made at once


class PlacedFolder(Struct, frozen=True):
    """A folder and where it lies."""

    folder: Folder
    path: str
    cluster: int
    """First cluster."""
    used_bytes: int
    """Bytes of entries; the rest of its clusters is zero."""
    cluster_count: int
    parent: int
    """First cluster of the folder above; 0 when that is the root."""


class PlacedFile(Struct, frozen=True):
    """A file and where it lies; an empty file has cluster 0."""

    file: File
    path: str
    cluster: int
    cluster_count: int


class Layout(Struct, frozen=True):
    """Which clusters every folder and file gets."""

    folders: tuple[PlacedFolder, ...]
    files: tuple[PlacedFile, ...]
    next_free: int
    """First cluster behind everything that is used."""
    cluster_size: int
    label: str
    holes: tuple[tuple[int, int], ...] = ()
    """First cluster and count of free clusters in front of `next_free`; only an update leaves any."""

    @property
    def clusters_used(self) -> int:
        return self.next_free - FIRST_CLUSTER - sum(count for _, count in self.holes)


def lay_out(root: Folder, label: str, cluster_size: int) -> Layout:
    """Give every folder and file of `root` its clusters. Raises SourceError for names or folders FAT cannot hold."""
    refuse_problems(root)
    folders: list[PlacedFolder] = []
    cluster = FIRST_CLUSTER
    place_of: dict[str, int] = {}
    files: list[tuple[str, File]] = []
    for path, entry in [("", root), *root.walk()]:
        if isinstance(entry, File):
            files.append((path, entry))
            continue
        used = _folder_bytes(entry, is_root=entry is root)
        if used > MOST_FOLDER_ENTRIES * ENTRY_SIZE:
            raise SourceError(
                f"Folder '{path}' needs {used // ENTRY_SIZE} entries on FAT, which allows {MOST_FOLDER_ENTRIES}.",
                advice="Divide it into several folders.",
            )
        count = max(-(-used // cluster_size), 1)
        parent = place_of[path.rpartition("/")[0]] if path else 0
        folders.append(PlacedFolder(entry, path, cluster, used, count, 0 if parent == FIRST_CLUSTER else parent))
        place_of[path] = cluster
        cluster += count
    placed: list[PlacedFile] = []
    for path, file in sorted(files, key=lambda item: (item[1].content.where(), item[0])):
        count = -(-file.size // cluster_size)
        placed.append(PlacedFile(file, path, cluster if count else 0, count))
        cluster += count
    return Layout(tuple(folders), tuple(placed), cluster, cluster_size, label)


def compose(
    layout: Layout, geometry: Geometry, *, serial: int, boot_sector: bytes, further_code: bytes
) -> list[Region]:
    """Return the volume's regions at their offsets on the drive: reserved, fat1, fat2, folders, files.

    `boot_sector` gives jump and code (its BPB is replaced), `further_code` goes to reserved sector 12 and up.
    """
    start = geometry.hidden * geometry.sector_size
    reserved_size = geometry.reserved * geometry.sector_size
    fat_size = geometry.fat * geometry.sector_size
    reserved = _reserved_sectors(layout, geometry, serial, boot_sector, further_code)
    regions = [
        region(
            RegionKind.RESERVED,
            [Extent(start, Literal(reserved)), Extent(start + len(reserved), Zeros(reserved_size - len(reserved)))],
        )
    ]
    for number, kind in enumerate((RegionKind.FAT1, RegionKind.FAT2)):
        offset = start + reserved_size + number * fat_size
        regions.append(region(kind, _fat(layout, offset, fat_size)))
    cluster_of = {placed.path: placed.cluster for placed in layout.folders}
    cluster_of |= {placed.path: placed.cluster for placed in layout.files}
    folders: list[Extent] = []
    for placed_folder in layout.folders:
        offset = start + geometry.cluster_offset(placed_folder.cluster)
        data = _folder_data(placed_folder, layout, cluster_of)
        folders.append(Extent(offset, Literal(data.ljust(placed_folder.cluster_count * layout.cluster_size, b"\0"))))
    regions.append(region(RegionKind.FOLDERS, folders))
    size = geometry.cluster_size
    files = sorted((placed for placed in layout.files if placed.cluster_count), key=lambda placed: placed.cluster)
    regions += file_regions(
        (start + geometry.cluster_offset(placed.cluster), placed.cluster_count * size, placed.file.content)
        for placed in files
    )
    return regions


# -- reserved sectors and FATs ---------------------------------------------------------------------------------------


def _reserved_sectors(
    layout: Layout, geometry: Geometry, serial: int, boot_sector: bytes, further_code: bytes
) -> bytes:
    size = geometry.sector_size
    given = BootSector.unpack(boot_sector)
    boot = BootSector(
        BS_jmpBoot=given.BS_jmpBoot,
        BPB_BytsPerSec=size,
        BPB_SecPerClus=geometry.sectors_per_cluster,
        BPB_RsvdSecCnt=geometry.reserved,
        BPB_HiddSec=stored_hidden(geometry.hidden),
        BPB_TotSec32=geometry.total,
        BPB_FATSz32=geometry.fat,
        BS_VolID=serial,
        BS_VolLab=label_bytes(layout.label),
        code=given.code,
    ).pack()
    info = FsInfo(FSI_Free_Count=geometry.cluster_count - layout.clusters_used, FSI_Nxt_Free=layout.next_free).pack()
    # The third boot sector holds no code of ours; by custom it carries the closing signature all the same.
    third = bytes(510) + b"\x55\xaa"
    room = (geometry.reserved - FURTHER_CODE_SECTOR) * size
    if len(further_code) > room:
        raise ValueError(f"{len(further_code)} bytes of boot code do not fit {room}")
    sectors = bytearray(FURTHER_CODE_SECTOR * size)
    for first in (0, BACKUP_BOOT_SECTOR):
        for number, sector in enumerate((boot, info, third), first):
            sectors[number * size : number * size + 512] = sector
    assert FSINFO_SECTOR == 1
    tail = further_code.ljust(align_up(len(further_code), size), b"\0")
    return bytes(sectors) + tail


def _fat(layout: Layout, offset: int, size: int) -> list[Extent]:
    used = align_up(layout.next_free * 4, 512)
    used = min(used, size)
    return [
        Extent(offset, Generated(used, lambda: _fat_pieces(layout, used))),
        Extent(offset + used, Zeros(size - used)),
    ]


def _fat_pieces(layout: Layout, used: int) -> Iterator[bytes]:
    """Yield the used front of a FAT. Every chain is contiguous: each entry names the next, but for the last ones."""
    lasts = np.array(
        [folder.cluster + folder.cluster_count - 1 for folder in layout.folders]
        + [file.cluster + file.cluster_count - 1 for file in layout.files if file.cluster_count],
        np.int64,
    )
    count = used // 4
    for first in range(0, count, _FAT_PIECE):
        end = min(first + _FAT_PIECE, count)
        entries = np.arange(first + 1, end + 1, dtype="<u4")
        inside = lasts[(lasts >= first) & (lasts < end)]
        entries[inside - first] = END_OF_CHAIN
        if layout.next_free < end:
            entries[max(layout.next_free - first, 0) :] = 0
        for hole, length in layout.holes:
            entries[max(hole - first, 0) : max(hole + length - first, 0)] = 0
        if first == 0:
            entries[:2] = (0x0FFFFFF8, END_OF_CHAIN)  # media byte; clean shutdown, no errors
        yield entries.tobytes()


# -- folders and files -----------------------------------------------------------------------------------------------


def _folder_bytes(folder: Folder, *, is_root: bool) -> int:
    """Bytes of a folder's entries: the label in the root, '.' and '..' elsewhere, and each name's long entries."""
    total = ENTRY_SIZE if is_root else 2 * ENTRY_SIZE
    for name in folder.entries:
        long_count = 0 if exact_short_name(name) else -(-len(name.encode("utf-16-le")) // 26)
        total += ENTRY_SIZE * (1 + long_count)
    return total


def _folder_data(placed: PlacedFolder, layout: Layout, cluster_of: dict[str, int]) -> bytes:
    if placed.path == "":
        newest = max((entry.modified for entry in placed.folder.entries.values()), default=EPOCH)
        pieces = [folder_entry(label_bytes(layout.label), ATTR_VOLUME_ID, newest, 0, 0)]
    else:
        moment = placed.folder.modified
        pieces = [
            folder_entry(b".          ", ATTR_DIRECTORY, moment, placed.cluster, 0),
            folder_entry(b"..         ", ATTR_DIRECTORY, moment, placed.parent, 0),
        ]
    names = ShortNames(placed.folder.entries)
    for name, entry in placed.folder.entries.items():
        short = names.of(name)
        if exact_short_name(name) is None:
            pieces.append(long_entries(name, short))
        cluster = cluster_of[f"{placed.path}/{name}" if placed.path else name]
        if isinstance(entry, Folder):
            pieces.append(folder_entry(short, ATTR_DIRECTORY, entry.modified, cluster, 0))
        else:
            pieces.append(folder_entry(short, ATTR_ARCHIVE, entry.modified, cluster, entry.size))
    return b"".join(pieces)


def folder_entry(name: bytes, attributes: int, moment: datetime, cluster: int, size: int) -> bytes:
    """Return the short entry of a file or folder, with `moment` for all its times."""
    date, time = fat_time(moment)
    return DirEntry(
        DIR_Name=name,
        DIR_Attr=attributes,
        DIR_CrtTime=time,
        DIR_CrtDate=date,
        DIR_LstAccDate=date,
        DIR_WrtTime=time,
        DIR_WrtDate=date,
        DIR_FstClusHI=cluster >> 16,
        DIR_FstClusLO=cluster & 0xFFFF,
        DIR_FileSize=size,
    ).pack()


def fat_time(moment: datetime) -> tuple[int, int]:
    """Return (date, time) as FAT stores them; moments before 1980 or after 2107 become the nearest it can say."""
    moment = min(max(moment, datetime(1980, 1, 1)), datetime(2107, 12, 31, 23, 59, 58))
    date = (moment.year - 1980) << 9 | moment.month << 5 | moment.day
    return date, moment.hour << 11 | moment.minute << 5 | moment.second // 2
