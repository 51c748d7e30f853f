"""Composes an HFS Plus volume from a layout: pure, metadata only, every byte written once and in rising order."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from ...common.collecting import without_collections
from ...content.contents import Content, Generated, Literal, Zeros
from ...content.extents import Extent
from ...content.regions import Region, RegionKind, region
from ...content.tree import UnixFacts
from ..bits import bits
from ..placing import file_regions
from .btree import Records, tree_nodes
from .catalogue import AttributeRecords, CatalogRecords, Node, NoRecords
from .layout import DATA, RESOURCE, ForkKey, Layout
from .records import (
    ALLOCATION_FILE,
    ATTRIBUTES_FILE,
    CATALOG_FILE,
    EXTENTS_FILE,
    FORMAT_FILE,
    FORMAT_FOLDER,
    FORMAT_LINK,
    HAS_ATTRIBUTES,
    HAS_FOLDER_COUNT,
    HAS_SECURITY,
    HAS_THREAD,
    HEADER_OFFSET,
    SECURITY,
    SIGNATURE_PLUS,
    SIGNATURE_X,
    SYMLINK_CREATOR,
    SYMLINK_TYPE,
    UNMOUNTED,
    VERSION_PLUS,
    VERSION_X,
    CatalogFile,
    CatalogFolder,
    ExtentDescriptor,
    FinderInfo,
    ForkData,
    Permissions,
    VolumeHeader,
    mac_time,
)

_KINDS = {
    ALLOCATION_FILE: RegionKind.BITMAP,
    EXTENTS_FILE: RegionKind.EXTENTS,
    ATTRIBUTES_FILE: RegionKind.ATTRIBUTES,
    CATALOG_FILE: RegionKind.CATALOG,
}
FOLDER_MODE, FILE_MODE = 0o755, 0o644
"""Permissions of what the source has none of."""
_date = lru_cache(1 << 12)(mac_time)


@without_collections()
def compose(layout: Layout, *, serial: int) -> list[Region]:
    """Return the volume's regions at their offsets on the drive.

    Header, bitmap, extents, attributes, catalog, files, and the alternate header.
    """
    geometry = layout.geometry
    start = geometry.hidden * geometry.sector_size
    size = geometry.cluster_size
    header = header_of(layout, serial)
    front = geometry.reserved * size
    before = [Extent(start, Literal(bytes(HEADER_OFFSET) + header))]
    before.append(Extent(start + HEADER_OFFSET + len(header), Zeros(front - HEADER_OFFSET - len(header))))
    regions = [region(RegionKind.HEADER, before)]
    for number, (first, count) in layout.own.items():
        offset = start + first * size
        content = _content(layout, number)
        extents = [Extent(offset, content), Extent(offset + content.size, Zeros(count * size - content.size))]
        regions.append(region(_KINDS[number], extents))
    forks = sorted(layout.forks, key=lambda fork: fork.cluster)
    regions += file_regions((start + fork.cluster * size, fork.count * size, fork.content) for fork in forks)
    end = start + geometry.total * geometry.sector_size
    alternate = [Extent(end - HEADER_OFFSET, Literal(header.ljust(HEADER_OFFSET, b"\0")))]
    regions.append(region(RegionKind.ALTERNATE, alternate))
    return regions


def header_of(layout: Layout, serial: int) -> bytes:
    """Return the volume header, 512 bytes; `serial` is its 64-bit identity."""
    contents, geometry = layout.catalogue, layout.geometry
    date = mac_time(contents.created)
    loader = contents.starts_with
    blessed = FinderInfo(
        blessed_folder=loader.parent if loader else 0,
        blessed_file=loader.number if loader else 0,
        system_folder=loader.parent if loader else 0,
        volume_id=serial,
    )
    owns = {number: _own_fork(layout, number) for number in (ALLOCATION_FILE, EXTENTS_FILE, CATALOG_FILE)}
    return VolumeHeader(
        signature=SIGNATURE_X if contents.case_sensitive else SIGNATURE_PLUS,
        version=VERSION_X if contents.case_sensitive else VERSION_PLUS,
        attributes=UNMOUNTED,
        createDate=date,
        modifyDate=date,
        checkedDate=date,
        fileCount=contents.file_count,
        folderCount=contents.folder_count,
        blockSize=geometry.cluster_size,
        totalBlocks=geometry.block_count,
        freeBlocks=geometry.cluster_count - layout.clusters_used,
        nextAllocation=layout.next_free,
        rsrcClumpSize=16 * geometry.cluster_size,
        dataClumpSize=16 * geometry.cluster_size,
        nextCatalogID=contents.next_number,
        writeCount=1,
        finderInfo=blessed.pack(),
        allocationFile=owns[ALLOCATION_FILE],
        extentsFile=owns[EXTENTS_FILE],
        catalogFile=owns[CATALOG_FILE],
        attributesFile=_own_fork(layout, ATTRIBUTES_FILE),
    ).pack()


def _own_fork(layout: Layout, number: int) -> bytes:
    if number not in layout.own:
        return ForkData().pack()
    first, count = layout.own[number]
    size = count * layout.geometry.cluster_size
    return fork(size, first, count, clump=size)


def fork(size: int, first: int, count: int, *, clump: int = 0) -> bytes:
    """Return the packed ForkData of `size` bytes in one piece of `count` blocks from `first`."""
    extent = ExtentDescriptor(startBlock=first, blockCount=count).pack() if count else b""
    return ForkData(logicalSize=size, clumpSize=clump, totalBlocks=count, extents=extent.ljust(64, b"\0")).pack()


def _content(layout: Layout, number: int) -> Content:
    """Return the bytes of one of the volume's own files."""
    geometry = layout.geometry
    if number == ALLOCATION_FILE:
        size = -(-geometry.block_count // 8)
        return Generated(size, lambda: bits(size, layout.used(), "big"))
    shape = layout.shapes[number]
    nodes = layout.own[number][1] * geometry.cluster_size // shape.rules.node_size
    size = nodes * shape.rules.node_size
    return Generated(size, lambda: tree_nodes(shape, _records(layout, number), nodes))


def _records(layout: Layout, number: int) -> Records:
    if number == CATALOG_FILE:
        return CatalogRecords(layout.catalogue, _Packer(layout).pack)
    if number == ATTRIBUTES_FILE:
        return AttributeRecords(layout.catalogue, lambda file, name: _fork_at(layout, (file, name)))
    return NoRecords()


def records_of_catalog(layout: Layout) -> Iterator[bytes]:
    """Yield the records of the catalog in order, with their keys."""
    records = _records(layout, CATALOG_FILE)
    return (records.record(index) for index in range(len(records)))


def _fork_at(layout: Layout, key: ForkKey) -> bytes:
    first, size = layout.places.get(key, (0, 0))
    return fork(size, first, layout.geometry.clusters_for(size))


_DATES = ("createDate", "contentModDate", "attributeModDate", "accessDate")


class _Packer:
    """Makes the catalog's records of files and folders."""

    def __init__(self, layout: Layout) -> None:
        self._layout, self._contents = layout, layout.catalogue

    def pack(self, node: Node) -> bytes:
        return self._folder(node) if node.is_folder else self._file(node)

    def _folder(self, node: Node) -> bytes:
        unix = node.unix
        inside = self._contents.children[node.number]
        counts = self._contents.case_sensitive  # systems keep this count on such volumes alone
        return CatalogFolder(
            flags=_attribute_flags(unix) | (HAS_FOLDER_COUNT if counts else 0),
            valence=len(inside),
            folderCount=sum(child.is_folder for child in inside) if counts else 0,
            folderID=node.number,
            **self._dates(node),
            permissions=_permissions(node, FORMAT_FOLDER, FOLDER_MODE),
            finderInfo=unix.finder_info,
        ).pack()

    def _file(self, node: Node) -> bytes:
        unix = node.unix
        if unix.is_link:
            info, kind, usual = (SYMLINK_TYPE + SYMLINK_CREATOR).ljust(32, b"\0"), FORMAT_LINK, FOLDER_MODE
        else:
            info, kind, usual = unix.finder_info, FORMAT_FILE, FILE_MODE
        return CatalogFile(
            flags=HAS_THREAD | _attribute_flags(unix),
            fileID=node.number,
            **self._dates(node),
            permissions=_permissions(node, kind, usual),
            finderInfo=info,
            dataFork=_fork_at(self._layout, (node.number, DATA)),
            resourceFork=_fork_at(self._layout, (node.number, RESOURCE)),
        ).pack()

    def _dates(self, node: Node) -> dict[str, int]:
        """A hard link has the created date of the folder of linked files: systems know links by that."""
        modified = _date(node.entry.modified)
        created = _date(node.unix.created or node.entry.modified)
        if node.is_link:
            created = _date(self._contents.created)
        return dict(zip(_DATES, (created, modified, modified, modified), strict=True))


def _attribute_flags(unix: UnixFacts) -> int:
    flags = HAS_ATTRIBUTES if unix.attributes else 0
    return flags | (HAS_SECURITY if SECURITY in unix.attributes else 0)


def _permissions(node: Node, kind: int, usual: int) -> bytes:
    unix = node.unix
    mode = usual if unix.mode is None else unix.mode
    return Permissions(ownerFlags=unix.flags, fileMode=kind | mode, special=node.special).pack()
