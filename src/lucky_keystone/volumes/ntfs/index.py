"""B+ trees: how many entries a folder's nodes take, and the nodes as bytes.

Entries come in collation order and are known all at once, so a tree is built from its leaves: a node is filled until
the next entry does not fit; that entry goes up to be between this node and the next. What is left when everything
fits the room in the file record is the root.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct

from ...common.record import packer
from .attributes import guard
from .records import (
    ENTRY_HAS_CHILD,
    ENTRY_IS_LAST,
    INDEX_BLOCK_SIZE,
    NODE_HAS_CHILDREN,
    FolderEntryHeader,
    IndexBlockHeader,
    IndexHeader,
    IndexRoot,
    ViewEntryHeader,
)

_CHILD = 8  # bytes of a child's VCN at an entry's end
_LAST = FolderEntryHeader.SIZE
_ENTRIES_AT = 0x40  # bytes from a block's start: its headers and update sequence, to a multiple of 8
BLOCK_ROOM = INDEX_BLOCK_SIZE - _ENTRIES_AT
ROOT_OVERHEAD = IndexRoot.SIZE + IndexHeader.SIZE
SMALLEST_ROOT = ROOT_OVERHEAD + _LAST + _CHILD
"""Bytes of a root that holds nothing but the way to its one child."""


Entry = Callable[[int], bytes]
"""Makes the entry of this place in order, without a child."""


class IndexNode(Struct, frozen=True):
    """A node: entries by number, and the block that comes before each of them and of the end (none in a leaf)."""

    entries: Sequence[int]
    children: Sequence[int]


class IndexShape(Struct, frozen=True):
    """A tree: its blocks, numbered as they are in $INDEX_ALLOCATION, and its root."""

    blocks: tuple[IndexNode, ...]
    root: IndexNode


def shape(sizes: Sequence[int], root_room: int) -> IndexShape:
    """Return the tree for entries of these sizes (bytes, without a child) whose root takes up to `root_room` bytes."""
    root_room = max(root_room, SMALLEST_ROOT)
    blocks: list[IndexNode] = []
    level = IndexNode(range(len(sizes)), ())
    while _root_size(level, sizes) > root_room:
        level = _divide(level, sizes, blocks)
    return IndexShape(tuple(blocks), level)


def root_size(found: IndexShape, sizes: Sequence[int]) -> int:
    """Bytes of the value of $INDEX_ROOT."""
    return _root_size(found.root, sizes)


def _root_size(root: IndexNode, sizes: Sequence[int]) -> int:
    return ROOT_OVERHEAD + sum(sizes[entry] for entry in root.entries) + _LAST + _CHILD * len(root.children)


def _divide(level: IndexNode, sizes: Sequence[int], blocks: list[IndexNode]) -> IndexNode:
    """Cut one level into blocks, adding them to `blocks`; return the level above."""
    child = _CHILD if level.children else 0
    room = BLOCK_ROOM - _LAST - child
    risen: list[int] = []
    above: list[int] = []
    start = used = 0
    count = len(level.entries)

    def close(end: int) -> None:
        above.append(len(blocks))
        blocks.append(IndexNode(level.entries[start:end], level.children[start : end + 1]))

    for position in range(count):
        size = sizes[level.entries[position]] + child
        if used + size <= room:
            used += size
            continue
        # The entry that rises must leave something behind it, or the last block would be empty.
        rising = position if position + 1 < count else position - 1
        close(rising)
        risen.append(level.entries[rising])
        start = rising + 1
        used = 0 if rising == position else size
    close(count)
    return IndexNode(risen, above)


def pack_root(found: IndexShape, entry: Entry, *, indexed_type: int, collation: int, vcns: int) -> bytes:
    """Return the value of $INDEX_ROOT. `entry` makes each entry, `vcns` is what a VCN grows by from block to block."""
    body = _node(found.root, entry, vcns)
    head = IndexRoot(indexed_type=indexed_type, collation=collation, clusters_per_block=vcns)
    flags = NODE_HAS_CHILDREN if found.root.children else 0
    size = IndexHeader.SIZE + len(body)
    return head.pack() + IndexHeader(first_entry=IndexHeader.SIZE, used=size, allocated=size, flags=flags).pack() + body


def view_entry(key: bytes, data: bytes, filling: bytes = b"") -> bytes:
    """Return an entry of an index whose keys are not names.

    `filling` is what systems write behind the data and ignore.
    """
    at = ViewEntryHeader.SIZE + len(key)
    length = at + len(data) + len(filling) + 7 & ~7
    head = ViewEntryHeader(data_offset=at, data_length=len(data), length=length, key_length=len(key), flags=0)
    return (head.pack() + key + data + filling).ljust(length, b"\0")


_block_head = packer(
    (IndexBlockHeader, {}),
    (
        IndexHeader,
        {"first_entry": _ENTRIES_AT - IndexBlockHeader.SIZE, "allocated": INDEX_BLOCK_SIZE - IndexBlockHeader.SIZE},
    ),
    names=("vcn", "used", "flags"),
)


def pack_blocks(found: IndexShape, entry: Entry, vcns: int) -> Iterator[bytes]:
    """Yield the blocks of $INDEX_ALLOCATION."""
    for number, node in enumerate(found.blocks):
        body = _node(node, entry, vcns)
        flags = NODE_HAS_CHILDREN if node.children else 0
        block = bytearray(INDEX_BLOCK_SIZE)
        block[:0x28] = _block_head(number * vcns, _ENTRIES_AT - IndexBlockHeader.SIZE + len(body), flags)
        block[_ENTRIES_AT : _ENTRIES_AT + len(body)] = body
        guard(block, 0x28)
        yield bytes(block)


def _node(node: IndexNode, entry: Entry, vcns: int) -> bytes:
    if not node.children:
        return b"".join([entry(number) for number in node.entries]) + _last(None)
    pieces = [
        _with_child(entry(number), child * vcns) for number, child in zip(node.entries, node.children, strict=False)
    ]
    return b"".join(pieces) + _last(node.children[-1] * vcns)


def _with_child(entry: bytes, vcn: int) -> bytes:
    length = (len(entry) + _CHILD).to_bytes(2, "little")
    flags = ENTRY_HAS_CHILD.to_bytes(2, "little")
    return entry[:8] + length + entry[10:12] + flags + entry[14:] + vcn.to_bytes(8, "little")


def _last(vcn: int | None) -> bytes:
    if vcn is None:
        return FolderEntryHeader(file=0, length=_LAST, key_length=0, flags=ENTRY_IS_LAST).pack()
    head = FolderEntryHeader(file=0, length=_LAST + _CHILD, key_length=0, flags=ENTRY_IS_LAST | ENTRY_HAS_CHILD)
    return head.pack() + vcn.to_bytes(8, "little")
