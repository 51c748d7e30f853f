"""Volumes of APFS with made-up contents, as newer installers carry their base systems. Nothing but these uses it.

What is written can be read; what only a system that changes a volume needs (free blocks, reference counts) is not kept.
Nodes, object maps and checkpoints are as in the vendor's reference (`volumes/apfs/records.py`).
"""

from __future__ import annotations

import hashlib
import struct
import unicodedata
from collections.abc import Iterable, Sequence
from datetime import UTC
from functools import cache
from pathlib import Path
from uuid import NAMESPACE_DNS, uuid5

from msgspec import Struct

from ..content.contents import Content, Literal, Zeros, stream
from ..content.tree import File, Folder
from ..volumes.apfs.records import (
    ATTRIBUTE,
    BLOCK,
    CASE_INSENSITIVE,
    CHECKPOINT_MAP,
    CONTAINER,
    ENTRY,
    EPHEMERAL,
    EXTENT,
    FINDER_INFO,
    FIXED,
    FORK,
    HASHED,
    HEADLESS,
    INODE,
    IS_EMBEDDED,
    IS_FILE,
    IS_FOLDER,
    IS_LINK,
    IS_STREAM,
    LEAF,
    LINK_TARGET,
    NODE,
    NORMALISING,
    NUMBER_BITS,
    OBJECT_MAP,
    PHYSICAL,
    ROOT_FOLDER,
    ROOT_NODE,
    SEALED,
    SNAPSHOT,
    TREE,
    UNENCRYPTED,
    VERSION_2,
    VOLUME,
    CheckpointMapHead,
    CheckpointMapping,
    ContainerSuperblock,
    EntryValue,
    ExtentValue,
    Inode,
    NodeHead,
    ObjectHead,
    ObjectMap,
    SnapshotValue,
    Stream,
    TreeInfo,
    VolumeSuperblock,
    checksum,
)

_DESCRIPTORS, _EPHEMERALS = 8, 8
"""Blocks of the two checkpoint areas, from block 1 on."""
_FIRST_FREE = 1 + _DESCRIPTORS + _EPHEMERALS
_REAPER, _FILES, _MAPS, _EXTENTS, _SNAPSHOTS, _FEXTENTS = 0x11, 0xE, 0xB, 0xF, 0x10, 0x1F
PREBOOT = 0x10
"""A role: the volume from which others are started."""
_KNOWN_BY_BLOCK = 0x10
"""Of a tree's flags ("B-Trees", BTREE_PHYSICAL)."""
_ABOVE_ROOT = 1
_MOST_EMBEDDED = 3804
_XID = 5
"""The transaction that everything is written by."""
_TABLE = ObjectHead.SIZE + NodeHead.SIZE
_DIRECTORY, _REGULAR, _SYMLINK = 0o040000, 0o100000, 0o120000


class ApfsPart(Struct, frozen=True):
    """A volume to be."""

    label: str
    root: Folder
    role: int = 0
    features: int = CASE_INSENSITIVE
    """Of apfs_incompatible_features."""
    snapshot: Folder | None = None
    """An older state that is kept under the name 'before'."""
    from_snapshot: bool = False
    """Whether the volume is mounted from it."""
    encrypted: bool = False
    """Whether it is marked so: its bytes are not."""
    copied: bool = False
    """Whether files are filed under other numbers than their own, as those of copies are."""
    scattered: int = 0
    """Bytes after which a new extent of a file begins; 0: never."""


class Record(Struct, frozen=True, order=True):
    """An entry of a tree."""

    order: tuple[int, int, int, bytes]
    key: bytes
    value: bytes


class _Blocks:
    """The container's blocks while it is written, in order."""

    def __init__(self, path: Path) -> None:
        self._stream = path.open("w+b")
        self.next = _FIRST_FREE
        self.next_oid = 1026

    def put(self, number: int, data: bytes) -> None:
        self._stream.seek(number * BLOCK)
        self._stream.write(data)

    def take(self, count: int = 1) -> int:
        self.next += count
        return self.next - count

    def number(self, count: int = 1) -> int:
        self.next_oid += count
        return self.next_oid - count

    def put_object(self, number: int, kind: int, oid: int, body: bytes, subtype: int = 0, xid: int = _XID) -> None:
        head = ObjectHead(o_cksum=0, o_oid=oid, o_xid=xid, o_type=kind, o_subtype=subtype).pack()
        self.put(number, sealed_block((head + body).ljust(BLOCK, b"\0")))

    def put_content(self, content: Content) -> int:
        """Write a content's bytes into blocks of their own; return the first."""
        first = self.take(-(-content.size // BLOCK))
        self._stream.seek(first * BLOCK)
        for piece in stream(content):
            self._stream.write(piece)
        return first

    def close(self, blocks: int) -> None:
        self._stream.truncate(blocks * BLOCK)
        self._stream.close()


def sealed_block(block: bytes) -> bytes:
    """Return an object with its checksum."""
    return checksum(block).to_bytes(8, "little") + block[8:]


# -- trees -----------------------------------------------------------------------------------------------------------


class _Shape(Struct, frozen=True):
    """What kind of tree it is."""

    subtype: int
    key_size: int = 0
    value_size: int = 0
    """Bytes where they are all the same."""
    sealed: bool = False


class _Made(Struct):
    """The nodes of a tree: block by number."""

    root: int
    nodes: dict[int, int]


def _write_tree(
    blocks: _Blocks, shape: _Shape, records: Sequence[Record], first: int | None = None, xid: int = _XID
) -> _Made:
    """Write a tree, whose nodes have the numbers from `first` on, the root's first; None: those of their blocks."""
    levels = _packed(shape, [(record.key, record.value) for record in records])
    total = sum(map(len, levels))
    taken = [blocks.take() for _ in range(total)]
    numbers = taken if first is None else list(range(first, first + total))
    made = _Made(numbers[0], {})
    place, below = total, 0
    sums: dict[int, bytes] = {}
    for level, groups in enumerate(levels):
        place -= len(groups)  # the root is the first
        child = below
        for at, group in enumerate(groups, place):
            entries = group
            if level:
                reach = range(child, child + len(group))
                child = reach.stop
                counted = numbers[0] if shape.sealed else 0
                values = ((numbers[each] - counted).to_bytes(8, "little") + sums.get(each, b"") for each in reach)
                entries = [(key, value) for (key, _), value in zip(group, values, strict=True)]
            flags = (0 if level else LEAF) | (FIXED if shape.key_size else 0)
            flags |= HASHED | HEADLESS if shape.sealed else 0
            info = (len(records), total) if at == 0 else None
            block = _node(entries, level, flags | (ROOT_NODE if info else 0), shape, info)
            if shape.sealed:
                data = bytes(ObjectHead.SIZE) + block
                blocks.put(taken[at], data)
                sums[at] = hashlib.sha256(data).digest()
            else:
                how = (PHYSICAL if first is None else 0) | (TREE if info else NODE)
                blocks.put_object(taken[at], how, numbers[at], block, shape.subtype, xid)
            made.nodes[numbers[at]] = taken[at]
        below = place
    return made


_Entries = list[tuple[bytes, bytes]]


def _packed(shape: _Shape, entries: _Entries) -> list[list[_Entries]]:
    """Return what goes into which node, the leaves first; entries of index nodes have no values yet."""
    width = 4 if shape.key_size else 8
    room = BLOCK - _TABLE - TreeInfo.SIZE
    levels: list[list[_Entries]] = []
    while not levels or len(levels[-1]) > 1:
        groups: list[_Entries] = [[]]
        used = 0
        for key, value in entries:
            size = width + len(key) + len(value)
            if used + size > room:
                groups.append([])
                used = 0
            groups[-1].append((key, value))
            used += size
        levels.append(groups)
        entries = [(group[0][0], bytes(40 if shape.sealed else 8)) for group in groups if group]
    return levels


def _node(
    entries: Sequence[tuple[bytes, bytes]], level: int, flags: int, shape: _Shape, info: tuple[int, int] | None
) -> bytes:
    """Return a node behind its head: table, keys, free space, values; of a root what is said of the tree."""
    end = BLOCK - (TreeInfo.SIZE if info else 0)
    table, keys, values = b"", b"", b""
    for key, value in entries:
        values = value + values
        if flags & FIXED:
            table += struct.pack("<2H", len(keys), len(values))
        else:
            table += struct.pack("<4H", len(keys), len(key), len(values), len(value))
        keys += key
    free = end - _TABLE - len(table) - len(keys) - len(values)
    head = NodeHead(
        btn_flags=flags, btn_level=level, btn_nkeys=len(entries), table_offset=0, table_length=len(table),
        btn_free_space=len(keys) | free << 16, btn_key_free_list=0xFFFF, btn_val_free_list=0xFFFF,
    )  # fmt: skip
    tail = b""
    if info:
        flags_of_tree = 0x80 if shape.sealed else 0 if shape.subtype == _FILES else _KNOWN_BY_BLOCK
        longest = max((len(key) for key, _ in entries), default=0), max((len(value) for _, value in entries), default=0)
        tail = TreeInfo(
            bt_flags=flags_of_tree, bt_node_size=BLOCK, bt_key_size=shape.key_size,
            bt_val_size=shape.value_size, bt_longest_key=shape.key_size or longest[0],
            bt_longest_val=shape.value_size or longest[1], bt_key_count=info[0], bt_node_count=info[1],
        ).pack()  # fmt: skip
    return head.pack() + table + keys + bytes(free) + values + tail


def _write_map(blocks: _Blocks, found: Iterable[tuple[int, int, int, int]], snapshots: int = 0) -> int:
    """Write an object map of (number, transaction, block, flags); return its block."""
    records = [
        Record((oid, xid, 0, b""), struct.pack("<2Q", oid, xid), struct.pack("<2IQ", flags, BLOCK, block))
        for oid, xid, block, flags in sorted(found)
    ]
    tree = _write_tree(blocks, _Shape(_MAPS, 16, 16), records)
    place = blocks.take()
    body = ObjectMap(
        om_flags=0, om_snap_count=snapshots, om_tree_type=PHYSICAL | TREE, om_snapshot_tree_type=PHYSICAL | TREE,
        om_tree_oid=tree.root, om_snapshot_tree_oid=0, om_most_recent_snap=0, om_pending_revert=bytes(16),
    )  # fmt: skip
    blocks.put_object(place, PHYSICAL | OBJECT_MAP, place, body.pack())
    return place


# -- names -----------------------------------------------------------------------------------------------------------


@cache
def _crc_table() -> tuple[int, ...]:
    table = list(range(256))
    for _ in range(8):
        table = [value >> 1 ^ (0x82F63B78 if value & 1 else 0) for value in table]
    return tuple(table)


def name_hash(name: str, features: int) -> int:
    """Return the 22 bits by which names are found: CRC-32C of the decomposed, folded name."""
    text = unicodedata.normalize("NFD", name)
    if features & CASE_INSENSITIVE:
        text = unicodedata.normalize("NFD", text.casefold())
    value = 0xFFFFFFFF
    for byte in text.encode("utf-32-le"):
        value = value >> 8 ^ _crc_table()[(value ^ byte) & 0xFF]
    return value & 0x3FFFFF


# -- volumes ---------------------------------------------------------------------------------------------------------


class _Files:
    """The records of one state of a volume."""

    def __init__(self, blocks: _Blocks, part: ApfsPart) -> None:
        self._blocks, self._part = blocks, part
        self.records: list[Record] = []
        self.extents: list[Record] = []
        """Of a sealed volume."""
        self._next = 16
        self._numbers: dict[int, tuple[int, int, Inode, bytes]] = {}
        self.counts = [0, 0, 0]

    def take(self, root: Folder) -> None:
        """Take in all of a tree."""
        private = Folder("private-dir")
        self._put_inode(ROOT_FOLDER, _ABOVE_ROOT, "root", root, 0)
        self._put_inode(ROOT_FOLDER + 1, _ABOVE_ROOT, "private-dir", private, 0)
        self._put_entry(_ABOVE_ROOT, "root", ROOT_FOLDER, IS_FOLDER)
        self._put_entry(_ABOVE_ROOT, "private-dir", ROOT_FOLDER + 1, IS_FOLDER)
        self._take_folder(root, ROOT_FOLDER)
        for number, _, inode, fields in self._numbers.values():
            self._add(number, INODE, b"", inode.pack() + fields)
        self.records.sort()
        self.extents.sort()

    def _take_folder(self, folder: Folder, number: int) -> None:
        for name, entry in folder.entries.items():
            known = self._numbers.get(id(entry))
            if known is not None:
                child, parent, inode, fields = known
                inode = inode.with_changes(nchildren_or_nlink=inode.nchildren_or_nlink + 1)
                self._numbers[id(entry)] = child, parent, inode, fields
            else:
                child = self._next
                self._next += 1
                self._put_inode(child, number, name, entry, 1)
            facts = entry.special.unix
            kind = IS_FOLDER if isinstance(entry, Folder) else IS_LINK if facts.is_link else IS_FILE
            self._put_entry(number, name, child, kind)
            if isinstance(entry, Folder):
                self._take_folder(entry, child)

    def _put_entry(self, folder: int, name: str, number: int, kind: int) -> None:
        value, stored = EntryValue(file_id=number, date_added=0, flags=kind).pack(), name.encode() + b"\0"
        if self._part.features & (CASE_INSENSITIVE | NORMALISING):
            hashed = name_hash(name, self._part.features)
            self._add(folder, ENTRY, struct.pack("<I", hashed << 10 | len(stored)) + stored, value, hashed, stored)
        else:
            self._add(folder, ENTRY, struct.pack("<H", len(stored)) + stored, value, 0, stored)

    def _put_inode(self, number: int, parent: int, name: str, entry: File | Folder, links: int) -> None:
        facts = entry.special.unix
        moment = int(entry.modified.replace(tzinfo=UTC).timestamp()) * 1_000_000_000
        is_folder = isinstance(entry, Folder)
        mode = facts.mode if facts.mode is not None else 0o755 if is_folder else 0o644
        kind = _DIRECTORY if is_folder else _SYMLINK if facts.is_link else _REGULAR
        self.counts[1 if is_folder else 2 if facts.is_link else 0] += 1
        private = number
        fields: list[tuple[int, int, bytes]] = [(4, 2, name.encode() + b"\0")]
        for attribute, data in facts.attributes.items():
            self._put_attribute(number, attribute, Literal(data))
        if facts.resource.size:
            self._put_attribute(number, FORK, facts.resource)
        if any(facts.finder_info) and not facts.is_link:
            self._put_attribute(number, FINDER_INFO, Literal(facts.finder_info))
        if not isinstance(entry, Folder):
            if facts.is_link:
                target = b"".join(bytes(piece) for piece in stream(entry.content))
                self._put_attribute(number, LINK_TARGET, Literal(target + b"\0"))
            elif not facts.is_packed and entry.size:
                if self._part.copied:
                    private = self._blocks.number() + (1 << 32)
                self._put_stream(private, entry.content)
                fields.append((8, 0x20, _stream(entry.size)))
        heads = b"".join(struct.pack("<2BH", kind_, flags, len(data)) for kind_, flags, data in fields)
        data = b"".join(data.ljust(-(-len(data) // 8) * 8, b"\0") for _, _, data in fields)
        packed = struct.pack("<2H", len(fields), len(data)) + heads + data
        children = len(entry.entries) if isinstance(entry, Folder) else links
        inode = Inode(
            parent_id=parent, private_id=private, create_time=moment, mod_time=moment, change_time=moment,
            access_time=moment, internal_flags=0x8000, nchildren_or_nlink=children,
            default_protection_class=0, write_generation_counter=1, bsd_flags=facts.flags, owner=0, group=0,
            mode=kind | mode, pad1=0, uncompressed_size=0,
        )  # fmt: skip
        self._numbers[id(entry)] = number, parent, inode, packed

    def _put_attribute(self, number: int, name: str, content: Content) -> None:
        if content.size <= _MOST_EMBEDDED and name != FORK:
            data = b"".join(bytes(piece) for piece in stream(content))
            value = struct.pack("<2H", IS_EMBEDDED, len(data)) + data
        else:
            own = self._blocks.number() + (1 << 32)
            self._put_stream(own, content)
            value = struct.pack("<2HQ", IS_STREAM, 48, own) + _stream(content.size)
        stored = name.encode() + b"\0"
        self._add(number, ATTRIBUTE, struct.pack("<H", len(stored)) + stored, value, 0, stored)

    def _put_stream(self, number: int, content: Content) -> None:
        for start, size, block in self._placed(content):
            key = struct.pack("<2Q", number | EXTENT << NUMBER_BITS, start)
            if self._part.features & SEALED:
                own = struct.pack("<2Q", number, start)
                self.extents.append(Record((number, start, 0, b""), own, struct.pack("<2Q", size, block)))
            else:
                value = ExtentValue(len_and_flags=size, phys_block_num=block, crypto_id=0).pack()
                self.records.append(Record((number, EXTENT, start, b""), key, value))

    def _placed(self, content: Content) -> Iterable[tuple[int, int, int]]:
        """Write a content; yield (byte of it, bytes in whole blocks, block or 0 for a hole)."""
        at = 0
        for part in getattr(content, "parts", (content,)):
            whole = -(-part.size // BLOCK) * BLOCK
            if isinstance(part, Zeros):
                yield at, whole, 0
            elif not self._part.scattered or part.size <= self._part.scattered:
                yield at, whole, self._blocks.put_content(part)
            else:
                first = self._blocks.put_content(part)
                step = self._part.scattered
                for start in range(0, whole, step):
                    yield at + start, min(step, whole - start), first + start // BLOCK
            at += whole

    def _add(self, number: int, kind: int, rest: bytes, value: bytes, order: int = 0, name: bytes = b"") -> None:
        key = struct.pack("<Q", number | kind << NUMBER_BITS) + rest
        self.records.append(Record((number, kind, order, name), key, value))


def _stream(size: int) -> bytes:
    whole = -(-size // BLOCK) * BLOCK
    made = Stream(size=size, alloced_size=whole, default_crypto_id=0, total_bytes_written=size, total_bytes_read=0)
    return made.pack()


def _write_volume(blocks: _Blocks, index: int, part: ApfsPart) -> tuple[int, int]:
    """Write a volume; return its number and the block of its superblock."""
    sealed = bool(part.features & SEALED)
    shape = _Shape(_FILES, sealed=sealed)
    states: list[tuple[int, _Files, _Made]] = []
    first = blocks.number(1 << 16)
    for xid, root in ((_XID - 2, part.snapshot), (_XID, part.root)):
        if root is None:
            continue
        files = _Files(blocks, part)
        files.take(root)
        states.append((xid, files, _write_tree(blocks, shape, files.records, first, xid)))
    flags = 8 if sealed else 0
    found = [(oid, xid, block, flags) for xid, _, made in states for oid, block in made.nodes.items()]
    omap = _write_map(blocks, found, len(states) - 1)
    _, files, made = states[-1]
    extents = _write_tree(blocks, _Shape(_FEXTENTS, 16, 16), files.extents).root if sealed else 0
    number = blocks.number()
    superblock = VolumeSuperblock(
        head=bytes(32), apfs_magic=b"APSB", apfs_fs_index=index, apfs_features=2,
        apfs_readonly_compatible_features=0, apfs_incompatible_features=part.features, apfs_unmount_time=0,
        apfs_blocks=bytes(24), apfs_meta_crypto=bytes(20), apfs_root_tree_type=TREE,
        apfs_extentref_tree_type=PHYSICAL | TREE, apfs_snap_meta_tree_type=PHYSICAL | TREE, apfs_omap_oid=omap,
        apfs_root_tree_oid=made.root, apfs_extentref_tree_oid=_write_tree(blocks, _Shape(_EXTENTS), []).root,
        apfs_snap_meta_tree_oid=0, apfs_revert=bytes(16), apfs_next_obj_id=1 << 40,
        apfs_num_files=files.counts[0], apfs_num_directories=files.counts[1] - 2, apfs_num_symlinks=files.counts[2],
        apfs_num_other_fsobjects=0, apfs_num_snapshots=len(states) - 1, apfs_total_blocks=bytes(16),
        apfs_vol_uuid=uuid5(NAMESPACE_DNS, f"{part.label}.tidewell.example").bytes, apfs_last_mod_time=0,
        apfs_fs_flags=0 if part.encrypted else UNENCRYPTED, apfs_history=bytes(432),
        apfs_volname=part.label.encode().ljust(256, b"\0"),
        apfs_next_doc_id=3, apfs_role=part.role, reserved=0,
        apfs_root_to_xid=states[0][0] if part.from_snapshot else 0, apfs_er_state_oid=bytes(32),
        apfs_volume_group_id=bytes(16), apfs_integrity_meta_oid=0, apfs_fext_tree_oid=extents,
        apfs_fext_tree_type=PHYSICAL | TREE if sealed else 0, reserved_behind=bytes(12),
    )  # fmt: skip
    records = []
    if len(states) > 1:
        xid, _, then = states[0]
        place = blocks.take()
        old = superblock.with_changes(apfs_omap_oid=0, apfs_root_tree_oid=then.root, apfs_num_snapshots=0)
        blocks.put_object(place, PHYSICAL | VOLUME, place, old.pack()[32:], xid=xid)
        name = b"before\0"
        value = SnapshotValue(
            extentref_tree_oid=0, sblock_oid=place, create_time=0, change_time=0, inum=0,
            extentref_tree_type=PHYSICAL | TREE, flags=0, name_len=len(name),
        )  # fmt: skip
        by_name = (1 << NUMBER_BITS) - 1
        records = [
            Record((xid, SNAPSHOT, 0, b""), struct.pack("<Q", xid | SNAPSHOT << NUMBER_BITS), value.pack() + name),
            Record(
                (by_name, 11, 0, b""),
                struct.pack("<QH", by_name | 11 << NUMBER_BITS, len(name)) + name,
                struct.pack("<Q", xid),
            ),
        ]
    snapshots = _write_tree(blocks, _Shape(_SNAPSHOTS), records).root
    superblock = superblock.with_changes(apfs_snap_meta_tree_oid=snapshots)
    place = blocks.take()
    blocks.put_object(place, VOLUME, number, superblock.pack()[32:])
    return number, place


def write_apfs(path: Path, parts: Sequence[ApfsPart], size: int = 0, name: str = "container") -> None:
    """Write a container with these volumes, of `size` bytes at least, as an image file."""
    blocks = _Blocks(path)
    volumes = [_write_volume(blocks, index, part) for index, part in enumerate(parts)]
    omap = _write_map(blocks, [(oid, _XID, block, 0) for oid, block in volumes])
    empty = _write_map(blocks, [])
    count = max(-(-size // BLOCK), blocks.next + 8)
    reaper = blocks.number()
    for turn, (xid, mapped, numbers) in enumerate(((_XID - 1, empty, []), (_XID, omap, [oid for oid, _ in volumes]))):
        place = 1 + _DESCRIPTORS + turn
        blocks.put_object(place, EPHEMERAL | _REAPER, reaper, bytes(64), xid=xid)
        mapping = CheckpointMapping(
            cpm_type=EPHEMERAL | _REAPER, cpm_subtype=0, cpm_size=BLOCK, cpm_pad=0, cpm_fs_oid=0, cpm_oid=reaper,
            cpm_paddr=place,
        )  # fmt: skip
        at = 1 + 2 * turn
        body = CheckpointMapHead(cpm_flags=1, cpm_count=1).pack() + mapping.pack()
        blocks.put_object(at, PHYSICAL | CHECKPOINT_MAP, at, body, xid=xid)
        superblock = ContainerSuperblock(
            head=bytes(32), nx_magic=b"NXSB", nx_block_size=BLOCK, nx_block_count=count, nx_features=0,
            nx_readonly_compatible_features=0, nx_incompatible_features=VERSION_2,
            nx_uuid=uuid5(NAMESPACE_DNS, f"{name}.tidewell.example").bytes, nx_next_oid=blocks.next_oid,
            nx_next_xid=xid + 1, nx_xp_desc_blocks=_DESCRIPTORS, nx_xp_data_blocks=_EPHEMERALS, nx_xp_desc_base=1,
            nx_xp_data_base=1 + _DESCRIPTORS, nx_xp_desc_next=2 * turn + 2, nx_xp_data_next=turn + 1,
            nx_xp_desc_index=2 * turn, nx_xp_desc_len=2, nx_xp_data_index=turn, nx_xp_data_len=1, nx_spaceman_oid=0,
            nx_omap_oid=mapped, nx_reaper_oid=reaper, nx_test_type=0, nx_max_file_systems=100,
            nx_fs_oid=struct.pack(f"<{len(numbers)}Q", *numbers).ljust(800, b"\0"), nx_counters=bytes(280), nx_flags=0,
            nx_efi_jumpstart=0, nx_fusion_uuid=bytes(16), nx_keylocker=bytes(16), nx_rest=bytes(96),
        )  # fmt: skip
        blocks.put_object(at + 1, EPHEMERAL | CONTAINER, 1, superblock.pack()[32:], xid=xid)
        if turn == 0:  # the copy in front may be old, and is here
            blocks.put_object(0, EPHEMERAL | CONTAINER, 1, superblock.pack()[32:], xid=xid)
    blocks.close(count)
