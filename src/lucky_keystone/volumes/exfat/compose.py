"""Lays a tree out as an exFAT volume: pure, metadata only.

Order in the cluster heap: allocation bitmap, up-case table, root, all other folders, then the files in the order their
bytes are in the source. Everything is contiguous; only what the specification wants chained is in the FAT.
"""

from __future__ import annotations

from datetime import datetime

from msgspec import Struct

from ...common.errors import SourceError
from ...content.contents import Generated, Literal, Zeros
from ...content.extents import Extent
from ...content.regions import Region, RegionKind, region
from ...content.tree import File, Folder
from ..bits import bits
from ..fat32.compose import fat_time
from ..names import refuse_names
from ..ntfs.upcase import upcase
from ..placing import file_regions
from .geometry import Geometry
from .names import compressed_table, problems
from .records import (
    ALLOCATION_POSSIBLE,
    ARCHIVE,
    BOOT_SECTORS,
    CHECKSUM_SECTOR,
    DIRECTORY,
    END_OF_CHAIN,
    ENTRY_SIZE,
    EXTENDED_SECTORS,
    EXTENDED_SIGNATURE,
    FIRST_CLUSTER,
    LARGEST_FOLDER,
    NO_FAT_CHAIN,
    BitmapEntry,
    BootSector,
    FileEntry,
    LabelEntry,
    NameEntry,
    StreamEntry,
    UpcaseEntry,
    boot_checksum,
    name_hash,
    set_checksum,
    table_checksum,
)

_UNITS = 15
"""UTF-16 units in a file-name entry."""
_OF_ROOT = 3
"""Entries of the root's own: label, bitmap, up-case table."""


class Placed(Struct, frozen=True):
    """A folder or file and its clusters; an empty file has cluster 0."""

    entry: Folder | File
    path: str
    cluster: int
    count: int


class Layout(Struct, frozen=True):
    """Which clusters everything gets."""

    bitmap: Placed
    upcase: Placed
    folders: tuple[Placed, ...]
    """The root first."""
    files: tuple[Placed, ...]
    next_free: int
    holes: tuple[tuple[int, int], ...] = ()

    @property
    def clusters_used(self) -> int:
        return self.next_free - FIRST_CLUSTER


def clusters_of(root: Folder, cluster_size: int) -> int:
    """Return the clusters that folders, files and the up-case table take: all but the bitmap."""
    size = len(compressed_table())
    total = -(-size // cluster_size)
    for path, entry in [("", root), *root.walk()]:
        size = entry.size if isinstance(entry, File) else folder_bytes(entry, is_root=not path)
        total += -(-size // cluster_size)
    return total


def lay_out(root: Folder, shape: Geometry) -> Layout:
    """Give everything its clusters. Raises SourceError for names or folders that exFAT cannot hold."""
    refuse_names(problems(root), "exFAT")
    cluster = FIRST_CLUSTER

    def placed(entry: Folder | File, path: str, size: int) -> Placed:
        nonlocal cluster
        count = -(-size // shape.cluster_size)
        found = Placed(entry, path, cluster if count else 0, count)
        cluster += count
        return found

    own = File("", Literal(b""))
    bitmap, table = placed(own, "", shape.bitmap_size), placed(own, "", len(compressed_table()))
    folders: list[Placed] = []
    files: list[tuple[str, File]] = []
    for path, entry in [("", root), *root.walk()]:
        if isinstance(entry, File):
            files.append((path, entry))
            continue
        size = folder_bytes(entry, is_root=not path)
        if size > LARGEST_FOLDER:
            raise SourceError(f"Folder '{path}' has too many entries for exFAT.", advice="Divide it.")
        folders.append(placed(entry, path, size))
    in_order = sorted(files, key=lambda item: (item[1].content.where(), item[0]))
    return Layout(
        bitmap,
        table,
        tuple(folders),
        tuple(placed(file, path, file.size) for path, file in in_order),
        cluster,
    )


def folder_bytes(folder: Folder, *, is_root: bool) -> int:
    """Bytes of a folder's entries; one at least, so that it has a cluster."""
    count = _OF_ROOT if is_root else 0
    for name in folder.entries:
        count += 2 + -(-len(name.encode("utf-16-le")) // (2 * _UNITS))
    return ENTRY_SIZE * max(count, 1)


def compose(layout: Layout, shape: Geometry, label: str, serial: int) -> list[Region]:
    """Return the volume's regions at their offsets on the drive: reserved, fat1, bitmap, folders, files."""
    start, size = shape.hidden * shape.sector_size, shape.cluster_size
    fat, heap = start + shape.fat_offset * shape.sector_size, start + shape.heap * shape.sector_size
    boot = 2 * boot_region(layout, shape, serial)
    chains = _fat(layout)
    marked = [(0, layout.clusters_used)]
    room = layout.bitmap.count * size
    bitmap = Generated(room, lambda: bits(room, marked, "little"))
    table = compressed_table()
    places = {placed.path: placed for placed in (*layout.folders, *layout.files)}
    data = [table, *(_folder(placed, layout, places, shape, label, table) for placed in layout.folders)]
    folders = [
        Extent(start + shape.cluster_offset(placed.cluster), Literal(piece.ljust(placed.count * size, b"\0")))
        for placed, piece in zip((layout.upcase, *layout.folders), data, strict=True)
    ]
    files = (
        (start + shape.cluster_offset(placed.cluster), placed.count * size, placed.entry.content)
        for placed in layout.files
        if isinstance(placed.entry, File) and placed.count
    )
    return [
        region(
            RegionKind.RESERVED,
            [Extent(start, Literal(boot)), Extent(start + len(boot), Zeros(fat - start - len(boot)))],
        ),
        region(
            RegionKind.FAT1, [Extent(fat, Literal(chains)), Extent(fat + len(chains), Zeros(heap - fat - len(chains)))]
        ),
        region(RegionKind.BITMAP, [Extent(heap, bitmap)]),
        region(RegionKind.FOLDERS, folders),
        *file_regions(files),
    ]


def boot_region(layout: Layout, shape: Geometry, serial: int) -> bytes:
    """Return twelve sectors (3)."""
    size = shape.sector_size
    boot = BootSector(
        PartitionOffset=shape.hidden,
        VolumeLength=shape.total,
        FatOffset=shape.fat_offset,
        FatLength=shape.fat,
        ClusterHeapOffset=shape.heap,
        ClusterCount=shape.cluster_count,
        FirstClusterOfRootDirectory=layout.folders[0].cluster,
        VolumeSerialNumber=serial,
        BytesPerSectorShift=size.bit_length() - 1,
        SectorsPerClusterShift=(shape.cluster_size // size).bit_length() - 1,
        PercentInUse=layout.clusters_used * 100 // shape.cluster_count,
    )
    extended = bytes(size - 4) + EXTENDED_SIGNATURE.to_bytes(4, "little")
    sectors = (boot.pack().ljust(size, b"\0") + EXTENDED_SECTORS * extended).ljust(CHECKSUM_SECTOR * size, b"\0")
    whole = sectors + boot_checksum(sectors, size).to_bytes(4, "little") * (size // 4)
    assert len(whole) == BOOT_SECTORS * size
    return whole


def _fat(layout: Layout) -> bytes:
    """Return the used front of the FAT: bitmap, up-case table and root have chains."""
    entries = [0xFFFF_FFF8, END_OF_CHAIN]  # 4.1.1, 4.1.2
    for placed in (layout.bitmap, layout.upcase, layout.folders[0]):
        entries += [*range(placed.cluster + 1, placed.cluster + placed.count), END_OF_CHAIN]
    return b"".join(entry.to_bytes(4, "little") for entry in entries)


def _folder(
    placed: Placed, layout: Layout, places: dict[str, Placed], shape: Geometry, label: str, table: bytes
) -> bytes:
    assert isinstance(placed.entry, Folder)
    pieces: list[bytes] = []
    if not placed.path:
        units = label.encode("utf-16-le")
        pieces = [
            LabelEntry(CharacterCount=len(units) // 2, VolumeLabel=units.ljust(22, b"\0")).pack(),
            BitmapEntry(FirstCluster=layout.bitmap.cluster, DataLength=shape.bitmap_size).pack(),
            UpcaseEntry(
                TableChecksum=table_checksum(table), FirstCluster=layout.upcase.cluster, DataLength=len(table)
            ).pack(),
        ]
    for name, entry in placed.entry.entries.items():
        found = places[f"{placed.path}/{name}" if placed.path else name]
        size = entry.size if isinstance(entry, File) else found.count * shape.cluster_size
        pieces.append(entry_set(name, entry, found.cluster, size))
    return b"".join(pieces)


def entry_set(name: str, entry: Folder | File, cluster: int, size: int) -> bytes:
    """Return the entries of a file or folder whose `size` bytes lie from `cluster` on (7.4, 7.6, 7.7)."""
    units = name.encode("utf-16-le")
    stamp = _timestamp(entry.modified)
    first = FileEntry(
        SecondaryCount=1 + -(-len(units) // (2 * _UNITS)),
        FileAttributes=ARCHIVE if isinstance(entry, File) else DIRECTORY,
        CreateTimestamp=stamp,
        LastModifiedTimestamp=stamp,
        LastAccessedTimestamp=stamp,
    )
    stream = StreamEntry(
        GeneralSecondaryFlags=ALLOCATION_POSSIBLE | (NO_FAT_CHAIN if size else 0),
        NameLength=len(units) // 2,
        NameHash=name_hash(upcase(name).encode("utf-16-le")),
        ValidDataLength=size,
        FirstCluster=cluster,
        DataLength=size,
    )
    names = (
        NameEntry(GeneralSecondaryFlags=0, FileName=units[at : at + 2 * _UNITS].ljust(2 * _UNITS, b"\0"))
        for at in range(0, len(units), 2 * _UNITS)
    )
    data = bytearray(first.pack() + stream.pack() + b"".join(each.pack() for each in names))
    at = FileEntry.offset_of("SetChecksum")
    data[at : at + 2] = set_checksum(data).to_bytes(2, "little")
    return bytes(data)


def _timestamp(moment: datetime) -> int:
    date, time = fat_time(moment)
    return date << 16 | time
