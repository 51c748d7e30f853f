"""Checks HFS+ volumes: both headers, the B-trees, every file's blocks, the allocation file; tells use from damage.

Systems rewrite the catalog and the allocation file whenever they use a volume, and count in the header that they did.
Where the header says that nobody did, whatever differs is damage. Otherwise these structures have to be sound, and what
was built is known by the essence of each catalog record (volumes/hfsplus/essence.py).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ...common.later import np
from ...common.record import RecordError
from ...common.units import shown_size
from ...content.contents import SizedReadable
from ...content.regions import TRAITS, RegionKind
from ...tables.table import Partition
from ...volumes.hfsplus.essence import changed_numbers
from ...volumes.hfsplus.parse import CatalogItem, attribute_key, parse_catalog, parse_fork
from ...volumes.hfsplus.read import Entry, HfsPlusVolume
from ...volumes.hfsplus.records import (
    ALLOCATION_FILE,
    ATTRIBUTES_FILE,
    CATALOG_FILE,
    DATA_FORK,
    EXTENTS_FILE,
    FORK_ATTRIBUTE,
    HEADER_OFFSET,
    INCONSISTENT,
    JOURNALED,
    MAP_NODE,
    RESOURCE_FORK,
    ROOT_PARENT,
    UNMOUNTED,
    ForkAttribute,
    VolumeHeader,
)
from ...volumes.hfsplus.tree import Tree
from ...volumes.note import HfsPlusNote
from ...volumes.volume import Run, VolumeError
from ..codes import Code
from ..found import FoundVolume
from ..report import Place, Report
from ..telling import LISTED, REBUILD, listed, report_damage, report_lines, report_use
from .checker import WrongBlock
from .clusters import ClusterMap, compare_bitmap

_CHANGED_BY_USE = (
    *(RegionKind.HEADER, RegionKind.BITMAP, RegionKind.EXTENTS, RegionKind.ATTRIBUTES),
    *(RegionKind.CATALOG, RegionKind.ALTERNATE),
)
_CHANGED_IN_HEADER = (
    *("attributes", "lastMountedVersion", "modifyDate", "backupDate", "checkedDate", "fileCount", "folderCount"),
    *("freeBlocks", "nextAllocation", "nextCatalogID", "writeCount", "encodingsBitmap"),
    *("extentsFile", "catalogFile", "attributesFile"),
)
"""What a system that uses the volume may change in its header; the trees themselves are checked."""


class HfsPlusChecker:
    """The checker of HFS+ volumes."""

    def check(
        self, volume: HfsPlusVolume, partition: Partition, sectors: int, report: Report
    ) -> tuple[list[Entry], int]:
        number = partition.number
        _headers(volume, number, report)
        _blessing(volume, number, report)
        used = ClusterMap(volume.cluster_count)
        faulty: list[str] = []
        _own_files(volume, used, faulty)
        items = list(_catalog(volume, faulty))
        _files(volume, items, used, faulty)
        _attributes(volume, used, faulty)
        entries = list(volume.walk())
        faulty += [f"{entry.path or 'root folder'}: {fault}" for entry in entries for fault in entry.faults]
        report_lines(list(dict.fromkeys(faulty)), Code.VOLUME_ENTRIES, "catalog", report, number)
        _counts(volume, items, number, report)
        free = _clusters(volume, used, number, report)
        report.looked_at += [
            "volume headers: the HFS+ header, and the alternate 1,024 bytes before the partition's end",
            f"catalog: {len(items):,} records and their order, the thread of each, the other B-trees",
            f"folders: {len(entries):,} entries and the blocks of both forks of each",
        ]
        return entries, free

    def added(self, volume: HfsPlusVolume, entries: Sequence[Entry], note: HfsPlusNote) -> list[Entry]:
        changed, added = changed_numbers(volume, note.records)
        new = {*changed, *added}
        return [entry for entry in entries if entry.number in new or entry.link in new]

    def judge(
        self,
        drive: SizedReadable,
        wrong: Sequence[WrongBlock],
        note: HfsPlusNote,
        found: FoundVolume | None,
        report: Report,
    ) -> None:
        damaged: dict[RegionKind, list[tuple[int, int]]] = {}
        volume = found.volume if found else None
        was_used = isinstance(volume, HfsPlusVolume) and _was_used(volume.header, note)
        for region, offset, size, _ in wrong:
            if region.kind not in _CHANGED_BY_USE or not was_used:
                damaged.setdefault(region.kind, []).append((offset, size))
        report_damage(damaged, found, report)
        used = {TRAITS[region.kind].area for region, _, _, _ in wrong if region.kind in _CHANGED_BY_USE}
        if not used or not was_used or found is None or not isinstance(volume, HfsPlusVolume):
            return
        number = found.partition.number
        entries: Sequence[Entry] = found.entries  # type: ignore[assignment]
        try:
            changed, added = changed_numbers(volume, note.records)
        except VolumeError as error:
            report.fault(Code.CONTENT_RECORDS, "catalog", error.message, REBUILD, Place(number))
            return
        if changed:
            names = {entry.link or entry.number: entry.path for entry in entries}
            words = [names.get(record, f"catalog ID {record}") for record in changed]
            what = f"changed since the build: {listed(words)}."
            advice = "They were removed, moved or replaced by hand, or the drive lost data: build the drive again."
            place = Place(number, file=words[0] if len(words) == 1 else "")
            report.fault(Code.CONTENT_RECORDS, "catalog", what, advice, place)
        new = set(added)
        paths = [entry.path for entry in entries if (entry.link or entry.number) in new and "/" not in entry.path]
        report_use(used, paths, report, rest_is_whole=not damaged and not changed, number=number)


def _was_used(header: VolumeHeader, note: HfsPlusNote) -> bool:
    """True when the header says that a system has mounted the volume to write, and nothing else in it differs."""
    try:
        built = VolumeHeader.unpack(note.header)
    except RecordError:
        return False
    counted = header.writeCount != built.writeCount and header.modifyDate != built.modifyDate
    names = [name for name, _, _ in VolumeHeader.places() if name not in _CHANGED_IN_HEADER]
    return counted and all(getattr(header, name) == getattr(built, name) for name in names)


def _headers(volume: HfsPlusVolume, number: int, report: Report) -> None:
    header = volume.header
    # Some volumes are shorter than their partition: then it lies before the end of the volume's blocks.
    ends = (volume.size, volume.cluster_count * volume.cluster_size)
    copies = [
        (at, VolumeHeader.unpack(volume.bytes_at(at, VolumeHeader.SIZE)))
        for at in (volume.offset + end - HEADER_OFFSET for end in dict.fromkeys(ends) if end <= volume.size)
    ]
    offset, copy = next((found for found in copies if found[1].signature == header.signature), copies[0])
    place = Place(number, offset, VolumeHeader.SIZE)
    same = ("signature", "version", "blockSize", "totalBlocks", "createDate", "allocationFile")
    if copy.signature != header.signature:
        what = "there is no alternate volume header 1,024 bytes before the partition's end."
        report.fault(Code.HFSPLUS_ALTERNATE, "volume header", what, REBUILD, place)
    elif any(getattr(copy, name) != getattr(header, name) for name in same):
        what = "the alternate volume header is of another volume, or damaged."
        report.fault(Code.HFSPLUS_ALTERNATE, "volume header", what, REBUILD, place)
    at = Place(number, volume.offset + HEADER_OFFSET + VolumeHeader.offset_of("attributes"), 4)
    if header.attributes & INCONSISTENT or not header.attributes & UNMOUNTED:
        what = "a computer marked the volume as in use and left it so; eject before unplugging."
        report.note(Code.VOLUME_MOUNTED, "volume header", what, at)
    if header.attributes & JOURNALED:
        _journal(volume, number, report)


def _blessing(volume: HfsPlusVolume, number: int, report: Report) -> None:
    """Compare the loader that the header names with the folder that it names beside it."""
    info = volume.finder_info
    if not info.blessed_file:
        return
    try:
        item = volume.item(info.blessed_file, b"")
    except VolumeError:
        return  # the catalog itself is damaged, and is reported as that
    what = ""
    if item is None or item.thread is None:
        what = f"the header names catalog ID {info.blessed_file} as the loader, which is not there."
    elif item.thread.parentID != info.blessed_folder:
        what = (
            f"the header names catalog ID {info.blessed_file} as the loader, and folder {info.blessed_folder}, "
            f"but it is in folder {item.thread.parentID}."
        )
    if what:
        place = Place(number, volume.offset + HEADER_OFFSET + VolumeHeader.offset_of("finderInfo"), 8)
        report.fault(Code.HFSPLUS_BLESSING, "volume header", what, REBUILD, place)


def _journal(volume: HfsPlusVolume, number: int, report: Report) -> None:
    """Say when the journal holds what is not yet in its place: what was read may then be older."""
    try:
        is_empty = volume.journal_is_empty()
    except VolumeError as error:
        report.fault(Code.HFSPLUS_JOURNAL, "volume header", error.message, REBUILD, Place(number))
        return
    if not is_empty:
        what = "its journal is not empty: the last changes are not in their place yet."
        advice = "Mount it on a Mac and eject it, then check again."
        report.fault(Code.HFSPLUS_JOURNAL, "volume header", what, advice, Place(number))


def _own_files(volume: HfsPlusVolume, used: ClusterMap, faulty: list[str]) -> None:
    block = volume.cluster_size
    size = min(volume.size, volume.cluster_count * block)
    used.mark(0, min(-(-(HEADER_OFFSET + VolumeHeader.SIZE) // block), volume.cluster_count))
    first = min((size - HEADER_OFFSET) // block, volume.cluster_count)
    used.mark(first, volume.cluster_count - first)
    names = {
        ALLOCATION_FILE: "allocation file",
        EXTENTS_FILE: "extents overflow file",
        CATALOG_FILE: "catalog",
        ATTRIBUTES_FILE: "attributes file",
    }
    for number, name in names.items():
        _mark(volume.own_fork(number).runs, used, f"the {name}", faulty)
    startup = parse_fork(volume.header.startupFile, volume.cluster_count, "The startup file")
    _mark(startup.runs, used, "the startup file", faulty)


def _mark(runs: Sequence[Run], used: ClusterMap, what: str, faulty: list[str]) -> None:
    faulty += [
        f"{what}: shares block {run.first} or a later one with another file"
        for run in runs
        if used.mark(run.first, run.count)
    ]


# -- the trees -------------------------------------------------------------------------------------------------------


def _catalog(volume: HfsPlusVolume, faulty: list[str]) -> Iterator[CatalogItem]:
    """Yield everything in the catalog; note what is out of order in it."""
    threads: dict[int, tuple[int, bytes]] = {}
    named: dict[int, tuple[int, bytes]] = {}
    before: tuple[int, bytes] = (0, b"")
    try:
        for leaf in volume.catalog.leaves():
            for record in leaf.records:
                item, key = parse_catalog(record), volume.key_of(record)
                if key <= before and before != (0, b""):
                    faulty.append(f"The catalog: record {key[0]} in node {leaf.number} is out of order")
                before = key
                if item.thread is not None:
                    threads[item.parent] = item.thread.parentID, item.thread_name
                elif item.folder or item.file:
                    number = item.folder.folderID if item.folder else item.file.fileID if item.file else 0
                    if number in named:
                        faulty.append(f"The catalog: number {number} is given twice")
                    named[number] = item.parent, item.name
                    yield item
        faulty += _tree_faults(volume.catalog)
    except VolumeError as error:
        faulty.append(error.message)
    folders = {number for number in named if number in threads} | {ROOT_PARENT}
    for number, (parent, name) in named.items():
        if threads.get(number) != (parent, name):
            faulty.append(f"The catalog: number {number} has no thread, or one with another name")
        if parent not in folders:
            faulty.append(f"The catalog: number {number} is in folder {parent}, which is not there")
    faulty += [f"The catalog: a thread of number {number}, which is not there" for number in threads.keys() - named]


def _tree_faults(tree: Tree) -> list[str]:
    """Go down the index nodes of a tree: they have to lead to every leaf, in order; and compare the map of nodes."""
    faults: list[str] = []
    header = tree.header
    if not header.treeDepth:
        return faults
    level, in_use = [header.rootNode], {0}
    for height in range(header.treeDepth, 0, -1):
        below: list[int] = []
        for number in level:
            if number in in_use:
                return [*faults, f"{tree.what}: its index leads to node {number} twice"]
            in_use.add(number)
            node = tree.node(number)
            if node.head.height != height:
                return [*faults, f"{tree.what}: node {number} is {node.head.height} high, expected {height}"]
            below += tree.children(node) if height > 1 else []
        if height == 1 and level != [leaf.number for leaf in tree.leaves()]:
            faults.append(f"{tree.what}: its index does not lead to all leaves in their order")
        level = below
    bits = np.unpackbits(np.frombuffer(tree.map_bits(), np.uint8))
    marked = set(np.flatnonzero(bits[: header.totalNodes]).tolist())
    map_nodes = marked - in_use
    if in_use - marked or any(tree.node(number).head.kind != MAP_NODE for number in list(map_nodes)[:LISTED]):
        faults.append(f"{tree.what}: its map of nodes is not that of the nodes in use")
    records = sum(len(leaf.records) for leaf in tree.leaves())
    if records != header.leafRecords:
        faults.append(f"{tree.what}: it claims {header.leafRecords:,} records, {records:,} are there")
    return faults


def _files(volume: HfsPlusVolume, items: Sequence[CatalogItem], used: ClusterMap, faulty: list[str]) -> None:
    for item in items:
        if item.file is None:
            continue
        number = item.file.fileID
        for data, kind in ((item.file.dataFork, DATA_FORK), (item.file.resourceFork, RESOURCE_FORK)):
            try:
                runs = volume.whole_fork(data, number, kind, f"Catalog ID {number}").runs
                _mark(runs, used, f"Catalog ID {number}", faulty)
            except VolumeError as error:
                faulty.append(error.message)


def _attributes(volume: HfsPlusVolume, used: ClusterMap, faulty: list[str]) -> None:
    try:
        tree = volume.attributes_tree
        if tree is None:
            return
        before: tuple[int, bytes, int] = (0, b"", -1)
        for leaf in tree.leaves():
            for record in leaf.records:
                key = attribute_key(record)
                if key <= before:
                    faulty.append(f"The attributes file: a record of number {key[0]} is out of order")
                before = key
                at = 2 + int.from_bytes(record[:2], "big")
                if int.from_bytes(record[at : at + 4], "big") == FORK_ATTRIBUTE:
                    what = f"An attribute of catalog ID {key[0]}"
                    fork = parse_fork(ForkAttribute.unpack(record, at).theFork, volume.cluster_count, what)
                    _mark(fork.runs, used, what, faulty)
        faulty += _tree_faults(tree)
    except VolumeError as error:
        faulty.append(error.message)
    except RecordError as error:
        faulty.append(f"The attributes file: {error.message}")


# -- counts and the allocation file ----------------------------------------------------------------------------------


def _counts(volume: HfsPlusVolume, items: Sequence[CatalogItem], number: int, report: Report) -> None:
    files = sum(item.file is not None for item in items)
    folders = len(items) - files - 1
    header = volume.header
    if items and (header.fileCount, header.folderCount) != (files, folders):
        what = (
            f"the header counts {header.fileCount:,} files and {header.folderCount:,} folders, "
            f"the catalog has {files:,} and {folders:,}; systems correct that."
        )
        report.note(Code.HFSPLUS_COUNTS, "volume header", what, Place(number))


def _clusters(volume: HfsPlusVolume, used: ClusterMap, number: int, report: Report) -> int:
    """Compare the allocation file with the blocks that files have; return the bytes that are free."""
    fork = volume.own_fork(ALLOCATION_FILE)
    if fork.size < -(-volume.cluster_count // 8):
        what = f"the allocation file has {fork.size:,} bytes, too few for {volume.cluster_count:,} blocks."
        report.fault(Code.HFSPLUS_BITMAP, "allocation bitmap", what, REBUILD, Place(number))
        return 0
    found = compare_bitmap(lambda offset, size: volume.read_fork(fork, offset, size), volume.cluster_count, used, "big")
    if found.unmarked:
        what = f"{found.unmarked:,} blocks of files are marked as free: writing to the drive would destroy them."
        report.fault(Code.HFSPLUS_BITMAP, "allocation bitmap", what, REBUILD, Place(number))
    if found.lost and not volume.header.attributes & JOURNALED:
        what = (
            f"{found.lost:,} blocks ({shown_size(found.lost * volume.cluster_size)}) are taken but belong to no file."
        )
        advice = "A computer was unplugged while it wrote, or the map is damaged: build the drive again."
        report.fault(Code.VOLUME_LOST_CLUSTERS, "allocation bitmap", what, advice, Place(number))
    if volume.header.freeBlocks != found.free:
        stated = volume.header.freeBlocks
        what = f"the header reports {stated:,} free blocks, there are {found.free:,}; systems correct that."
        report.note(Code.HFSPLUS_COUNTS, "volume header", what, Place(number))
    return found.free * volume.cluster_size
