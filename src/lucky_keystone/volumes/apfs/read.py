"""Reads one volume of an APFS container, as it is now or as one of its snapshots has it.

What is wrong with a file or folder is collected in words on its entry, where the rest can still be read.
"""

from __future__ import annotations

import stat
import unicodedata
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from functools import cached_property

from msgspec import Struct, field

from ...common.record import RecordError
from ...content.tree import DECMPFS, UF_COMPRESSED
from ..decmpfs import Compressed, compressed
from ..volume import Run, UnreadVolume, VolumeError, walk_below
from .container import Container, MapOfObjects
from .records import (
    ATTRIBUTE,
    BLOCK,
    CASE_INSENSITIVE,
    DATALESS,
    ENTRY,
    EXTENT,
    FIELD_STREAM,
    FINDER_INFO,
    FORK,
    HOW_MASK,
    INODE,
    IS_EMBEDDED,
    IS_FOLDER,
    IS_LINK,
    IS_STREAM,
    LENGTH_BITS,
    LINK_TARGET,
    NODE,
    NORMALISING,
    NUMBER_BITS,
    PHYSICAL,
    READ_FEATURES,
    ROLES,
    ROOT_FOLDER,
    SEALED,
    SNAPSHOT,
    TREE,
    UNENCRYPTED,
    EntryValue,
    ExtentValue,
    Inode,
    SnapshotValue,
    Stream,
    VolumeSuperblock,
)
from .tree import Tree

_MOST_EXTENTS = 2_000_000  # of one file
_MOST_ATTRIBUTE = 16 << 20  # bytes of one that is read into memory
_MOST_ATTRIBUTES = 1000  # of one file
_LONGEST_LINK = 4096
_SECOND = 1_000_000_000
_Key = tuple[int, int, bytes]


class Extent(Struct, frozen=True):
    """Bytes of a stream that lie in one place."""

    start: int
    """Byte of the stream."""
    size: int
    block: int
    """0 for a hole, which reads as zeros."""


class Fork(Struct, frozen=True):
    """A stream: a file's bytes, its resource fork or another attribute."""

    size: int = 0
    extents: tuple[Extent, ...] = ()
    embedded: bytes | None = None
    """The bytes themselves, where an attribute's record has them."""


NO_FORK = Fork()


class Entry(Struct):
    """A file or folder found by a name."""

    path: str
    name: str
    """As it is stored."""
    is_folder: bool
    number: int
    inode: Inode | None
    """None where it is missing, which is among the faults."""
    size: int = 0
    """Bytes of a file as programs read it."""
    data: Fork = NO_FORK
    resource: Fork = NO_FORK
    is_symlink: bool = False
    attributes: Mapping[str, Fork] = field(default_factory=dict)
    """Extended attributes, but for those that are told otherwise."""
    finder_info: bytes = bytes(32)
    faults: list[str] = field(default_factory=list)
    packed: Compressed | None = None

    @property
    def runs(self) -> tuple[Run, ...]:
        """None: what lies where is said by its forks, in blocks of the container."""
        return ()

    @property
    def modified(self) -> datetime | None:
        """UTC."""
        return moment_of(self.inode.mod_time) if self.inode is not None else None

    @property
    def has_names(self) -> bool:
        """True of a file with several names."""
        return not self.is_folder and self.inode is not None and self.inode.nchildren_or_nlink > 1


class Snapshot(Struct, frozen=True):
    """A state of a volume that is kept."""

    xid: int
    name: str
    block: int
    """Of the volume's superblock as it was."""


def moment_of(nanoseconds: int) -> datetime | None:
    """Return a moment (UTC) by its nanoseconds since 1970, None for what is not a moment."""
    try:
        return datetime.fromtimestamp(nanoseconds // _SECOND, UTC).replace(tzinfo=None)
    except (OverflowError, ValueError, OSError):
        return None


class ApfsVolume:
    """A volume of a container."""

    def __init__(self, container: Container, oid: int, superblock: VolumeSuperblock) -> None:
        """Raises VolumeError for a volume that cannot be read."""
        self.container, self.oid, self.superblock = container, oid, superblock
        self.features = superblock.apfs_incompatible_features
        if not superblock.apfs_fs_flags & UNENCRYPTED:
            raise UnreadVolume(f"Volume '{self.label}' is encrypted, which is not supported.")
        if unknown := self.features & ~READ_FEATURES:
            raise UnreadVolume(f"Volume '{self.label}' needs unknown features ({unknown:X}h).")
        self._map = MapOfObjects(container, superblock.apfs_omap_oid, f"The object map of '{self.label}'")
        self._xid, state = container.xid, superblock
        if superblock.apfs_root_to_xid:
            snapshot = next((each for each in self.snapshots() if each.xid == superblock.apfs_root_to_xid), None)
            if snapshot is None:
                raise VolumeError(f"Volume '{self.label}': the snapshot that it is mounted from is missing.")
            self._xid, state = snapshot.xid, container.volume_at(snapshot.block)
        self._state = state
        self._tree = self._root_tree()

    def at_snapshot(self, snapshot: Snapshot) -> ApfsVolume:
        """Return the same volume as a snapshot has it."""
        state = self.superblock.with_changes(apfs_root_to_xid=snapshot.xid)
        return ApfsVolume(self.container, self.oid, state)

    @property
    def label(self) -> str:
        """Its name, '' when it has none."""
        return self.superblock.apfs_volname.split(b"\0", 1)[0].decode("utf-8", "replace")

    @property
    def role(self) -> str:
        """What it is for in a group of volumes, '' when nothing says it."""
        number = self.superblock.apfs_role
        return ROLES.get(number, f"role {number:X}h")

    @property
    def is_sealed(self) -> bool:
        return bool(self.features & SEALED)

    def snapshots(self) -> Iterator[Snapshot]:
        """Yield its snapshots, the oldest first."""
        if not self.superblock.apfs_snap_meta_tree_oid:
            return
        what = f"The snapshots of '{self.label}'"
        root = self.superblock.apfs_snap_meta_tree_oid
        tree = Tree(what, root, lambda number: self.container.physical_node(what, number), _numbers_swapped)
        for key, value in tree.entries_from((SNAPSHOT, 0)):
            if key[0] != SNAPSHOT:
                return
            if value is None or len(value) < SnapshotValue.SIZE:
                raise VolumeError(f"{what}: the record of snapshot {key[1]:,} is cut.")
            found = SnapshotValue.unpack(value)
            name = value[SnapshotValue.SIZE : SnapshotValue.SIZE + found.name_len].split(b"\0", 1)[0]
            yield Snapshot(key[1], name.decode("utf-8", "replace"), found.sblock_oid)

    # -- trees -------------------------------------------------------------------------------------------------------

    def _root_tree(self) -> Tree:
        what = f"The files of '{self.label}'"
        physical = self._state.apfs_root_tree_type & HOW_MASK == PHYSICAL

        def read(number: int) -> bytes:
            if physical:
                return self.container.physical_node(what, number)
            mapped = self._map.find(number, self._xid)
            if mapped is None:
                raise VolumeError(f"{what}: node {number:,} is missing in the object map.")
            if mapped.headless or self.is_sealed:
                return self.container.block(mapped.block)
            return self.container.object_at(mapped.block, (TREE, NODE), what, number)

        return Tree(what, self._state.apfs_root_tree_oid, read, _key)

    @cached_property
    def _extents_of_sealed(self) -> Tree:
        what = f"The extents of '{self.label}'"
        root = self._state.apfs_fext_tree_oid
        return Tree(what, root, lambda number: self.container.physical_node(what, number), _two_numbers, 16)

    def _records(self, number: int, kind: int) -> Iterator[tuple[bytes, bytes]]:
        """Yield (rest of the key, value) of the records of one kind of an object."""
        for key, value in self._tree.entries_from((number, kind)):
            if key[:2] != (number, kind):
                return
            if value is not None:
                yield key[2], value

    # -- files and folders -------------------------------------------------------------------------------------------

    def root(self) -> Entry:
        """The root folder as an entry."""
        return Entry("", "", True, ROOT_FOLDER, self._inode(ROOT_FOLDER)[0])

    def walk(self, budget: int = 4_000_000) -> Iterator[Entry]:
        """Yield the root and every file and folder below it; faults are noted on them."""
        return walk_below(self.root(), self.entries, lambda entry: entry.number, budget)

    def find(self, path: str) -> Entry | None:
        """Return the entry at `path` ('/'-separated; compared as the volume does), or None."""
        here = self.root()
        for part in path.strip("/").split("/"):
            wanted = self.folded(part)
            names = self._names(here) if here.is_folder else iter(())
            found = next((entry for entry in names if self.folded(entry.name) == wanted), None)
            if found is None:
                return None
            here = found
        return self._measured(here)

    def folded(self, name: str) -> str:
        """Return what two names have in common that the volume takes for the same."""
        if self.features & CASE_INSENSITIVE:
            return unicodedata.normalize("NFD", unicodedata.normalize("NFD", name).casefold())
        return unicodedata.normalize("NFD", name) if self.features & NORMALISING else name

    def entries(self, folder: Entry) -> Iterator[Entry]:
        """Yield the contents of `folder`; a bad entry carries its faults."""
        for entry in self._names(folder):
            yield self._measured(entry)

    def _names(self, folder: Entry) -> Iterator[Entry]:
        """Yield the contents of a folder by their names alone."""
        above = f"{folder.path}/" if folder.path else ""
        width = 4 if self.features & (CASE_INSENSITIVE | NORMALISING) else 2
        try:
            for rest, value in self._records(folder.number, ENTRY):
                length = int.from_bytes(rest[:width], "little") & 0x3FF if width == 4 else len(rest) - width
                stored = rest[width:]
                if len(value) < EntryValue.SIZE or length != len(stored) or not stored.endswith(b"\0"):
                    folder.faults.append("the record of one of its entries is invalid")
                    continue
                found = EntryValue.unpack(value)
                name = stored[:-1].decode("utf-8", "replace")
                entry = Entry(above + name, name, found.flags & 0xF == IS_FOLDER, found.file_id, None)
                entry.is_symlink = found.flags & 0xF == IS_LINK
                if "/" in name or "\0" in name or name in ("", ".", ".."):
                    entry.faults.append("its name is not a valid file name")
                yield entry
        except VolumeError as error:
            folder.faults.append(error.message.rstrip("."))

    def _inode(self, number: int) -> tuple[Inode, bytes]:
        """Return an inode, and its extended fields. Raises VolumeError where it is missing or cut."""
        _, value = next(self._records(number, INODE), (b"", None))
        if value is None:
            raise VolumeError(f"Volume '{self.label}': inode {number:,} is missing.")
        try:
            return Inode.unpack(value), value[Inode.SIZE :]
        except RecordError as error:
            raise VolumeError(f"Volume '{self.label}': inode {number:,} is cut.") from error

    def _measured(self, entry: Entry) -> Entry:
        """Add what the inode says; what is wrong with it is noted."""
        try:
            inode, fields = self._inode(entry.number)
            entry.inode = inode
            if stat.S_ISDIR(inode.mode) != entry.is_folder or stat.S_ISLNK(inode.mode) != entry.is_symlink:
                raise VolumeError("its entry and its inode differ in what it is.")
            self._take_attributes(entry)
            if entry.is_folder:
                return entry
            if inode.bsd_flags & DATALESS:
                raise VolumeError("its contents are not on this volume (it is dataless).")
            if not entry.is_symlink:
                entry.data = self._fork(inode.private_id, _size_of(fields))
                entry.size = entry.data.size
            if inode.bsd_flags & UF_COMPRESSED:
                self._unpacked(entry)
        except VolumeError as error:
            entry.faults.append(error.message.rstrip("."))
        return entry

    def _take_attributes(self, entry: Entry) -> None:
        found: dict[str, Fork] = {}
        for rest, value in self._records(entry.number, ATTRIBUTE):
            name = rest[2:].split(b"\0", 1)[0].decode("utf-8", "replace")
            if len(found) >= _MOST_ATTRIBUTES:
                raise VolumeError(f"more than {_MOST_ATTRIBUTES:,} attributes are invalid.")
            found[name] = self._attribute(name, value)
        target, entry.resource = found.pop(LINK_TARGET, None), found.pop(FORK, NO_FORK)
        info = found.pop(FINDER_INFO, None)
        if info is not None and info.size == len(entry.finder_info):
            entry.finder_info = self.read_fork(info, 0, info.size)
        entry.attributes = found
        if entry.is_symlink:
            if target is None or not 1 < target.size <= _LONGEST_LINK:
                raise VolumeError("where this link points to is not said.")
            text = self.read_fork(target, 0, target.size).split(b"\0", 1)[0]
            entry.data, entry.size = Fork(len(text), embedded=text), len(text)

    def _attribute(self, name: str, value: bytes) -> Fork:
        flags, size = int.from_bytes(value[:2], "little"), int.from_bytes(value[2:4], "little")
        data = value[4 : 4 + size]
        if len(value) < 4 or len(data) != size:
            raise VolumeError(f"its attribute {name} is cut.")
        if flags & IS_EMBEDDED:
            return Fork(size, embedded=data)
        if not flags & IS_STREAM or size < 8 + Stream.SIZE:
            raise VolumeError(f"its attribute {name} is invalid.")
        return self._fork(int.from_bytes(data[:8], "little"), Stream.unpack(data, 8).size)

    def _fork(self, number: int, size: int) -> Fork:
        """Return a stream by what its extents are filed under. Raises VolumeError where a part of it is missing."""
        if not size:
            return NO_FORK
        found: list[Extent] = []
        end = 0
        for start, value in self._extents_of(number):
            extent = ExtentValue.unpack(value.ljust(ExtentValue.SIZE, b"\0"))
            length, block = extent.len_and_flags & LENGTH_BITS, extent.phys_block_num
            blocks = length // BLOCK
            if start != end or not length or length % BLOCK:
                raise VolumeError(f"its bytes from {end:,} on are missing.")
            if block and not block <= self.container.block_count - blocks:
                raise VolumeError(f"its bytes from {start:,} on lie outside of the container.")
            if len(found) >= _MOST_EXTENTS:
                raise VolumeError(f"more than {_MOST_EXTENTS:,} extents are invalid.")
            found.append(Extent(start, length, block))
            end = start + length
            if end >= size:
                return Fork(size, tuple(found))
        raise VolumeError(f"its bytes from {end:,} on are missing, of {size:,}.")

    def _extents_of(self, number: int) -> Iterator[tuple[int, bytes]]:
        """Yield (byte of the stream, value) of its extents, in order."""
        if self.is_sealed and self._state.apfs_fext_tree_oid:
            for key, value in self._extents_of_sealed.entries_from((number, 0)):
                if key[0] != number:
                    return
                yield key[1], value or b""
            return
        for rest, value in self._records(number, EXTENT):
            yield int.from_bytes(rest[:8], "little"), value

    def _unpacked(self, entry: Entry) -> None:
        head = entry.attributes.get(DECMPFS)
        if head is None:
            return
        resource = entry.resource
        entry.packed = compressed(
            self.read_fork(head, 0, min(head.size, _MOST_ATTRIBUTE)),
            resource.size,
            lambda offset, size: self.read_fork(resource, offset, size),
        )
        entry.size = entry.packed.size

    # -- contents ----------------------------------------------------------------------------------------------------

    def attribute(self, entry: Entry, name: str) -> bytes:
        """Return the bytes of one of an entry's attributes. Raises VolumeError for one that is too large."""
        fork = entry.attributes[name]
        if fork.size > _MOST_ATTRIBUTE:
            raise VolumeError(f"Attribute {name} has {fork.size:,} bytes, which is not supported.")
        return self.read_fork(fork, 0, fork.size)

    def read_fork(self, fork: Fork, offset: int, size: int) -> bytes:
        """Return up to `size` bytes of a stream from `offset`."""
        end = min(offset + size, fork.size)
        if fork.embedded is not None:
            return fork.embedded[offset:end]
        found: list[bytes] = []
        for extent in fork.extents:
            first, last = max(offset, extent.start), min(end, extent.start + extent.size)
            if first < last:
                found.append(self._bytes_of(extent, first - extent.start, last - first))
        return b"".join(found)

    def _bytes_of(self, extent: Extent, inside: int, size: int) -> bytes:
        if not extent.block:
            return bytes(size)
        return self.container.read_at(self.container.block_offset(extent.block) + inside, size)

    def read_at_of(self, entry: Entry, offset: int, size: int) -> bytes:
        """Return up to `size` bytes of a file from `offset`. Raises VolumeError for what cannot be decoded."""
        size = max(min(size, entry.size - offset), 0)
        if entry.packed is not None:
            return entry.packed.read_at(offset, size)
        return self.read_fork(entry.data, offset, size)


def _size_of(fields: bytes) -> int:
    """Return what an inode's extended fields say of its size ("Extended Fields"); 0 where they do not."""
    if len(fields) < 4:
        return 0
    count = int.from_bytes(fields[:2], "little")
    at = 4 + 4 * count
    for number in range(count):
        head = fields[4 + 4 * number : 8 + 4 * number]
        size = int.from_bytes(head[2:4], "little")
        if len(head) < 4 or at + size > len(fields):
            raise VolumeError("the extended fields of its inode are cut.")
        if head[0] == FIELD_STREAM:
            if size < Stream.SIZE:
                raise VolumeError("what its inode says of its size is cut.")
            return Stream.unpack(fields, at).size
        at += -(-size // 8) * 8
    return 0


def _key(data: bytes) -> _Key:
    """What the tree of files is sorted by: number, kind; and the rest of the key."""
    if len(data) < 8:
        raise ValueError("too short")
    first = int.from_bytes(data[:8], "little")
    return first & (1 << NUMBER_BITS) - 1, first >> NUMBER_BITS, data[8:]


def _numbers_swapped(data: bytes) -> tuple[int, int]:
    """The tree of snapshots: kind first."""
    number, kind, _ = _key(data)
    return kind, number


def _two_numbers(data: bytes) -> tuple[int, int]:
    if len(data) < 16:
        raise ValueError("too short")
    return int.from_bytes(data[:8], "little"), int.from_bytes(data[8:16], "little")
