"""Reads an HFS Plus volume from the bytes on a drive. Takes from the composer only records and names.

What is wrong with a file or folder is collected in words on its entry, where the rest can still be read.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime
from functools import cached_property

from msgspec import Struct, field

from ...common.record import RecordError
from ...content.contents import Readable
from ...content.tree import DECMPFS, UF_COMPRESSED
from ..decmpfs import Compressed, compressed
from ..volume import Run, VolumeError, walk_below
from .names import binary_key, folded_key, shown_name, stored_name
from .parse import (
    NO_FORK,
    CatalogItem,
    Fork,
    attribute_key,
    catalog_key,
    extent_key,
    parse_catalog,
    parse_extents,
    parse_fork,
)
from .records import (
    ALLOCATION_FILE,
    ATTRIBUTES_FILE,
    CATALOG_FILE,
    COMPARE_BINARY,
    DATA_FORK,
    EXTENTS_FILE,
    FINDER_LINK_TO_FOLDER,
    FORK_ATTRIBUTE,
    FORMAT_BITS,
    FORMAT_LINK,
    HEADER_OFFSET,
    INLINE_ATTRIBUTE,
    JOURNAL_MAGIC,
    LINK_CREATOR,
    LINK_TYPE,
    LINKED_FILE,
    LINKED_FILES,
    LINKED_FOLDER,
    LINKED_FOLDERS,
    RESOURCE_FORK,
    ROOT,
    ROOT_PARENT,
    SIGNATURE_PLUS,
    SIGNATURE_X,
    CatalogFile,
    CatalogFolder,
    ExtentKey,
    FinderInfo,
    ForkAttribute,
    InlineAttribute,
    JournalHeader,
    JournalInfo,
    Permissions,
    VolumeHeader,
    moment_of,
)
from .tree import Tree

_MOST_EXTENTS = 100_000  # of one fork
_MOST_ATTRIBUTE = 16 << 20  # bytes of one extended attribute
_MOST_ATTRIBUTES = 1000  # of one file


class Entry(Struct):
    """A file or folder found in the catalog."""

    path: str
    name: str
    """As POSIX shows it, decomposed."""
    is_folder: bool
    number: int
    record: CatalogFolder | CatalogFile
    """Of a hard link that of the file it stands for."""
    size: int = 0
    """Bytes of a file as programs read it."""
    runs: tuple[Run, ...] = ()
    """Of the data fork; of a compressed file those of its resource fork."""
    data: Fork = NO_FORK
    resource: Fork = NO_FORK
    link: int = 0
    """The catalog ID of the link itself, where this is one of several names."""
    faults: list[str] = field(default_factory=list)
    packed: Compressed | None = None

    @property
    def modified(self) -> datetime | None:
        """UTC."""
        return moment_of(self.record.contentModDate)

    @property
    def permissions(self) -> Permissions:
        return Permissions.unpack(self.record.permissions)

    @property
    def is_symlink(self) -> bool:
        return self.permissions.fileMode & FORMAT_BITS == FORMAT_LINK


class HfsPlusVolume:
    """A volume that starts at byte `offset` of `drive` and may reach to `offset + size`."""

    def __init__(self, drive: Readable, offset: int, size: int) -> None:
        self._drive, self.offset, self.size = drive, offset, size
        if size < 2 * HEADER_OFFSET:
            raise VolumeError(f"The partition at byte {offset} has {size} bytes: no volume fits.")
        self.header = VolumeHeader.unpack(drive.read_at(offset + HEADER_OFFSET, VolumeHeader.SIZE))
        self._validate()
        self.cluster_size, self.cluster_count = self.header.blockSize, self.header.totalBlocks
        self.extents_tree = self._tree("The extents overflow file", self.header.extentsFile, EXTENTS_FILE)
        self.catalog = self._tree("The catalog", self.header.catalogFile, CATALOG_FILE)
        self.case_sensitive = (
            self.header.signature == SIGNATURE_X and self.catalog.header.keyCompareType == COMPARE_BINARY
        )
        self._fold = binary_key if self.case_sensitive else folded_key

    def _validate(self) -> None:
        header = self.header

        def require(holds: bool, name: str) -> None:
            if not holds:
                at = self.offset + HEADER_OFFSET + VolumeHeader.offset_of(name)
                value = getattr(header, name)
                shown = value.decode("ascii", "replace") if isinstance(value, bytes) else f"{value:,}"
                raise VolumeError(f"Volume header, {name} (byte {at}): {shown} is invalid on HFS+.")

        require(header.signature in (SIGNATURE_PLUS, SIGNATURE_X), "signature")
        require(header.version in (4, 5), "version")
        require(header.blockSize in [1 << power for power in range(9, 25)], "blockSize")
        require(0 < header.totalBlocks <= -(-self.size // header.blockSize), "totalBlocks")
        require(header.freeBlocks <= header.totalBlocks, "freeBlocks")

    # -- forks and trees -------------------------------------------------------------------------------------------

    def own_fork(self, number: int) -> Fork:
        """Return the fork of one of the volume's own files. Raises VolumeError."""
        data, what = {
            ALLOCATION_FILE: (self.header.allocationFile, "The allocation file"),
            EXTENTS_FILE: (self.header.extentsFile, "The extents overflow file"),
            CATALOG_FILE: (self.header.catalogFile, "The catalog"),
            ATTRIBUTES_FILE: (self.header.attributesFile, "The attributes file"),
        }[number]
        return self.whole_fork(data, number, DATA_FORK, what)

    def whole_fork(self, data: bytes, number: int, kind: int, what: str) -> Fork:
        """Return a fork with all its extents, the overflowing ones too. Raises VolumeError."""
        fork = parse_fork(data, self.cluster_count, what)
        held = sum(run.count for run in fork.runs)
        if held >= fork.block_count or number == EXTENTS_FILE:
            return fork
        runs = list(fork.runs)
        for record in self.extents_tree.records_from((number, kind, held), extent_key):
            if extent_key(record) != (number, kind, held):
                break
            further = parse_extents(record[ExtentKey.SIZE :].ljust(64, b"\0"), self.cluster_count, what)
            runs += further
            held += sum(run.count for run in further)
            if not further or held >= fork.block_count:
                break
            if len(runs) > _MOST_EXTENTS:
                raise VolumeError(f"{what}: more than {_MOST_EXTENTS:,} extents are invalid.")
        return Fork(fork.size, fork.block_count, tuple(runs))

    def read_fork(self, fork: Fork, offset: int, size: int) -> bytes:
        """Return up to `size` bytes of a fork from `offset`; fewer where it has no blocks."""
        end = min(offset + size, fork.size)
        found: list[bytes] = []
        start = 0
        for run in fork.runs:
            stop = start + run.count * self.cluster_size
            first, last = max(offset, start), min(end, stop)
            if first < last:
                found.append(self._drive.read_at(self.cluster_offset(run.first) + first - start, last - first))
            start = stop
            if start >= end:
                break
        return b"".join(found)

    def _tree(self, what: str, data: bytes, number: int) -> Tree:
        fork = self.whole_fork(data, number, DATA_FORK, what)
        return Tree(what, fork.size, lambda offset, size: self.read_fork(fork, offset, size))

    @cached_property
    def attributes_tree(self) -> Tree | None:
        """The tree of extended attributes; None where the volume has none. Raises VolumeError."""
        if not self.own_fork(ATTRIBUTES_FILE).size:
            return None
        return self._tree("The attributes file", self.header.attributesFile, ATTRIBUTES_FILE)

    # -- what every volume has -------------------------------------------------------------------------------------

    def cluster_offset(self, cluster: int) -> int:
        """Offset of a block on the drive, in bytes."""
        return self.offset + cluster * self.cluster_size

    def cluster_at(self, offset: int) -> int:
        """The block that holds byte `offset` of the drive."""
        return (offset - self.offset) // self.cluster_size

    def bytes_at(self, offset: int, size: int) -> bytes:
        """Return bytes of the drive, for what lies outside all blocks."""
        return self._drive.read_at(offset, size)

    @property
    def boot_sector(self) -> bytes:
        """Its first 512 bytes: boot blocks, which only old systems used."""
        return self.bytes_at(self.offset, 512)

    def part_at(self, inside: int) -> str:
        """Name the volume's own structure that holds its byte `inside`, '' for none of those a start reads."""
        if HEADER_OFFSET <= inside < HEADER_OFFSET + VolumeHeader.SIZE:
            return "the volume header"
        block = inside // self.cluster_size
        in_catalog = any(run.first <= block < run.first + run.count for run in self.own_fork(CATALOG_FILE).runs)
        return "the catalog, to look up a file" if in_catalog else ""

    def label(self) -> str:
        record = next(iter(self.catalog.records_from((ROOT_PARENT, b""), self.key_of)), None)
        if record is None or catalog_key(record)[0] != ROOT_PARENT:
            return ""
        return shown_name(catalog_key(record)[1])

    def names_loader(self) -> str:
        """The path of the file that the header names; '' where it names none, or one that is not there."""
        try:
            return self.named(self.finder_info.blessed_file) if self.finder_info.blessed_file else ""
        except VolumeError:
            return ""

    @property
    def finder_info(self) -> FinderInfo:
        """What the volume names to firmware."""
        return FinderInfo.unpack(self.header.finderInfo)

    def journal_is_empty(self) -> bool:
        """Tell whether all that the journal holds is in its place. Raises VolumeError where it cannot be read."""
        block = self.header.journalInfoBlock
        if not 0 < block < self.cluster_count:
            raise VolumeError(f"The journal's description lies in block {block:,}, outside of the volume.")
        info = JournalInfo.unpack(self._drive.read_at(self.cluster_offset(block), JournalInfo.SIZE))
        if not info.flags & 1:
            raise VolumeError("The journal is on another device.")
        if info.offset + JournalHeader.SIZE > self.size:
            raise VolumeError(f"The journal at byte {info.offset:,} lies outside of the volume.")
        data = self._drive.read_at(self.offset + info.offset, JournalHeader.SIZE)
        header = JournalHeader.unpack(data)
        if data[:4] == b"JNLx":  # written by a big-endian machine
            return data[8:16] == data[16:24]
        if header.magic != JOURNAL_MAGIC:
            raise VolumeError("The journal has no header.")
        return header.start == header.end

    # -- the catalog -----------------------------------------------------------------------------------------------

    def key_of(self, record: bytes) -> tuple[int, bytes]:
        """Return what a record of the catalog is sorted by. Raises VolumeError."""
        parent, name = catalog_key(record)
        return parent, self._fold(name)

    def items_of(self, folder: int) -> Iterator[CatalogItem]:
        """Yield the records of what is in a folder, in order. Raises VolumeError."""
        for record in self.catalog.records_from((folder, b""), self.key_of):
            item = parse_catalog(record)
            if item.parent != folder:
                return
            if item.thread is None:
                yield item

    def item(self, folder: int, name: bytes) -> CatalogItem | None:
        """Return the record of the entry of a folder that has this name. Raises VolumeError."""
        key = folder, self._fold(name)
        record = next(iter(self.catalog.records_from(key, self.key_of)), None)
        return parse_catalog(record) if record is not None and self.key_of(record) == key else None

    def named(self, number: int) -> str:
        """Return the path of the file or folder with a catalog ID, '' where nothing has it. Raises VolumeError."""
        parts: list[str] = []
        for _ in range(200):
            if number == ROOT:
                return "/".join(reversed(parts))
            item = self.item(number, b"")
            if item is None or item.thread is None:
                return ""
            parts.append(shown_name(item.thread_name))
            number = item.thread.parentID
        return ""

    @cached_property
    def _linked_files(self) -> int:
        item = self.item(ROOT, stored_name(LINKED_FILES))
        return item.folder.folderID if item and item.folder else 0

    @cached_property
    def _linked_folders(self) -> int:
        item = self.item(ROOT, stored_name(LINKED_FOLDERS))
        return item.folder.folderID if item and item.folder else 0

    def root(self) -> Entry:
        """The root folder as an entry."""
        record = next(iter(self.catalog.records_from((ROOT_PARENT, b""), self.key_of)), None)
        item = parse_catalog(record) if record is not None else None
        if item is None or item.parent != ROOT_PARENT or item.folder is None or item.folder.folderID != ROOT:
            raise VolumeError("The catalog: the root folder is not in it.")
        return Entry("", "", True, ROOT, item.folder)

    def walk(self, budget: int = 2_000_000) -> Iterator[Entry]:
        """Yield the root and every file and folder below it, but for the volume's own; faults are noted on them."""
        return walk_below(self.root(), self.entries, lambda entry: entry.link or entry.number, budget)

    def entries(self, folder: Entry) -> Iterator[Entry]:
        """Yield the contents of `folder`; a bad entry carries its faults."""
        count = 0
        try:
            for item in self.items_of(folder.number):
                count += 1
                own = item.folder.folderID if item.folder else 0
                if not (folder.number == ROOT and own and own in (self._linked_files, self._linked_folders)):
                    yield self._entry(folder, item)
        except VolumeError as error:
            folder.faults.append(error.message.rstrip("."))
            return
        if isinstance(folder.record, CatalogFolder) and folder.record.valence != count:
            folder.faults.append(f"it claims {folder.record.valence:,} entries, {count:,} are there")

    def _entry(self, folder: Entry, item: CatalogItem) -> Entry:
        name = shown_name(item.name)
        path = f"{folder.path}/{name}" if folder.path else name
        if item.folder is not None:
            entry = Entry(path, name, True, item.folder.folderID, item.folder)
        else:
            assert item.file is not None
            entry = self._file(path, name, item.file)
        if "/" in name or name in ("", ".", ".."):
            entry.faults.append("its name is not a valid file name")
        return entry

    def _file(self, path: str, name: str, record: CatalogFile) -> Entry:
        kind = record.finderInfo[:8]
        link = record.fileID
        try:
            if kind == LINK_TYPE + LINK_CREATOR and self._linked_files:
                target = self._link_target(record, self._linked_files, LINKED_FILE)
                if target is not None and target.file is not None:
                    return self._measured(Entry(path, name, False, target.file.fileID, target.file, link=link))
                entry = Entry(path, name, False, link, record)
                entry.faults.append("the file that this link points to is missing")
                return entry
            if kind == FINDER_LINK_TO_FOLDER and self._linked_folders:
                target = self._link_target(record, self._linked_folders, LINKED_FOLDER)
                if target is not None and target.folder is not None:
                    return Entry(path, name, True, target.folder.folderID, target.folder, link=link)
        except VolumeError as error:
            entry = Entry(path, name, False, link, record)
            entry.faults.append(error.message.rstrip("."))
            return entry
        return self._measured(Entry(path, name, False, link, record))

    def _link_target(self, record: CatalogFile, folder: int, prefix: str) -> CatalogItem | None:
        number = Permissions.unpack(record.permissions).special
        return self.item(folder, stored_name(f"{prefix}{number}"))

    def _measured(self, entry: Entry) -> Entry:
        """Add sizes and runs of both forks; what is wrong with them is noted."""
        record = entry.record
        assert isinstance(record, CatalogFile)
        try:
            entry.data = self.whole_fork(record.dataFork, entry.number, DATA_FORK, "its data fork")
            entry.resource = self.whole_fork(record.resourceFork, entry.number, RESOURCE_FORK, "its resource fork")
        except VolumeError as error:
            entry.faults.append(error.message.rstrip("."))
        for fork in (entry.data, entry.resource):
            blocks = sum(run.count for run in fork.runs)
            if -(-fork.size // self.cluster_size) > blocks:
                entry.faults.append(f"{fork.size:,} bytes do not fit the {blocks:,} blocks it has")
        entry.size, entry.runs = entry.data.size, entry.data.runs
        if entry.permissions.ownerFlags & UF_COMPRESSED:
            self._unpacked(entry)
        return entry

    def _unpacked(self, entry: Entry) -> None:
        try:
            value = self.attribute(entry.number, DECMPFS)
            if value is not None:
                entry.packed = compressed(
                    value, entry.resource.size, lambda offset, size: self.read_fork(entry.resource, offset, size)
                )
                entry.size, entry.runs = entry.packed.size, entry.resource.runs
        except VolumeError as error:
            entry.faults.append(error.message.rstrip("."))

    def find(self, path: str) -> Entry | None:
        """Return the entry at `path` ('/'-separated; compared as the volume does), or None."""
        here = self.root()
        for part in path.strip("/").split("/"):
            item = self.item(here.number, stored_name(part)) if here.is_folder else None
            if item is None or item.thread is not None:
                return None
            here = self._entry(here, item)
        return here

    # -- contents --------------------------------------------------------------------------------------------------

    def readable_size(self, entry: Entry) -> int:
        """Bytes of a file that can be read: fewer than its size where it has too few blocks."""
        held = sum(run.count for run in entry.data.runs) * self.cluster_size
        return entry.size if entry.packed else min(entry.size, held)

    def pieces(self, entry: Entry, block: int = 4 << 20) -> Iterator[bytes]:
        """Yield a file's bytes in pieces of up to `block`. Raises VolumeError for what cannot be decoded."""
        for start in range(0, entry.size, block):
            yield self.read_at_of(entry, start, block)

    def read_at_of(self, entry: Entry, offset: int, size: int) -> bytes:
        """Return up to `size` bytes of a file from `offset`."""
        if entry.packed is not None:
            return entry.packed.read_at(offset, min(size, max(entry.size - offset, 0)))
        return self.read_fork(entry.data, offset, size)

    # -- extended attributes ---------------------------------------------------------------------------------------

    def attributes(self, number: int) -> Mapping[str, bytes]:
        """Return the extended attributes of a file or folder. Raises VolumeError."""
        tree = self.attributes_tree
        found: dict[str, bytes] = {}
        for record in tree.records_from((number, b"", 0), attribute_key) if tree else ():
            file, units, _ = attribute_key(record)
            if file != number:
                break
            value = self._value(record, number)
            if value is not None:
                found[units.decode("utf-16-be", "surrogatepass")] = value
            if len(found) > _MOST_ATTRIBUTES:
                raise VolumeError(f"The attributes file: number {number} has more than {_MOST_ATTRIBUTES:,}.")
        return found

    def attribute(self, number: int, name: str) -> bytes | None:
        """Return one extended attribute, None where it is not there. Raises VolumeError."""
        tree, key = self.attributes_tree, (number, name.encode("utf-16-be"), 0)
        record = next(iter(tree.records_from(key, attribute_key)), None) if tree else None
        return self._value(record, number) if record is not None and attribute_key(record) == key else None

    def _value(self, record: bytes, number: int) -> bytes | None:
        """Return the bytes of an attribute; None of a record that only continues one."""
        at = 2 + int.from_bytes(record[:2], "big")
        kind = int.from_bytes(record[at : at + 4], "big")
        what = f"The attributes file, number {number}"
        try:
            if kind == INLINE_ATTRIBUTE:
                size = InlineAttribute.unpack(record, at).attrSize
                at += InlineAttribute.SIZE
                if at + size > len(record):
                    raise VolumeError(f"{what}: an attribute of {size:,} bytes does not fit its record.")
                return record[at : at + size]
            if kind == FORK_ATTRIBUTE:
                fork = parse_fork(ForkAttribute.unpack(record, at).theFork, self.cluster_count, what)
                if fork.size > _MOST_ATTRIBUTE:
                    raise VolumeError(f"{what}: an attribute of {fork.size:,} bytes is invalid.")
                return self.read_fork(fork, 0, fork.size)
        except RecordError as error:
            raise VolumeError(f"{what}: {error.message}.") from error
        return None
