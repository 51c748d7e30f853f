"""Builds B-trees from records in order (TN1150, "B-Trees"): shaped from sizes alone, packed node by node on demand.

Node 0 is the header; the leaves follow in order, then each level of index nodes, the root last.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from typing import Protocol

from msgspec import Struct

from ...common.errors import SourceError
from .records import HEADER_NODE, INDEX_NODE, LEAF_NODE, NodeDescriptor, TreeHeader

_POINTER = 4
"""Bytes of a node's number behind its key in an index node."""
_OFFSET = 2
"""Bytes of a record's offset at a node's end."""
_USER_DATA = 128
_MAP_OVERHEAD = 256
"""Bytes of the header node beside its map: descriptor, header, user data and four offsets."""


class Records(Protocol):
    """What a tree holds, in the order of its keys."""

    def __len__(self) -> int: ...

    def sizes(self) -> Sequence[int]:
        """Return the bytes of each record, with its key."""

    def key_sizes(self) -> Sequence[int]:
        """Return the bytes of each key, with its length."""

    def key(self, index: int) -> bytes:
        """Return a key, with its length."""

    def record(self, index: int) -> bytes:
        """Return a record, with its key."""


class TreeRules(Struct, frozen=True):
    """What one of the volume's trees has in its header."""

    node_size: int
    """Bytes."""
    key_most: int
    """Bytes of the longest key, its length left out."""
    attributes: int
    compare: int = 0


class TreeShape(Struct, frozen=True):
    """How many nodes a tree has, and what is in each."""

    rules: TreeRules
    leaves: tuple[int, ...]
    """First record of each leaf."""
    levels: tuple[tuple[int, ...], ...]
    """Of each level of index nodes, from the leaves up: of each node the number of its first one in the level below."""
    record_count: int

    @property
    def nodes(self) -> int:
        """The header among them."""
        return 1 + len(self.leaves) + sum(len(level) for level in self.levels)

    @property
    def size(self) -> int:
        """Bytes."""
        return self.nodes * self.rules.node_size


def shape_tree(records: Records, rules: TreeRules) -> TreeShape:
    """Divide records into nodes, each as full as can be. Raises SourceError for more than one header can map."""
    room = rules.node_size - NodeDescriptor.SIZE - _OFFSET
    leaves = _divide((size + _OFFSET for size in records.sizes()), room)
    keys = records.key_sizes()
    levels: list[tuple[int, ...]] = []
    firsts = leaves
    while len(firsts) > 1:
        level = _divide((keys[first] + _POINTER + _OFFSET for first in firsts), room)
        levels.append(level)
        firsts = tuple(firsts[number] for number in level)
    shape = TreeShape(rules, leaves, tuple(levels), len(records))
    if shape.nodes > (rules.node_size - _MAP_OVERHEAD) * 8:
        raise SourceError(
            f"A tree of the HFS+ volume would have {shape.nodes:,} nodes, more than its header can map.",
            advice="Leave files out: a volume for an installer never has that many.",
        )
    return shape


def _divide(sizes: Iterator[int], room: int) -> tuple[int, ...]:
    """Return the number of the first item of each node."""
    firsts: list[int] = []
    used = room + 1
    for number, size in enumerate(sizes):
        if used + size > room:
            firsts.append(number)
            used = 0
        used += size
    return tuple(firsts)


def tree_nodes(shape: TreeShape, records: Records, total_nodes: int) -> Iterator[bytes]:
    """Yield every node, then empty ones up to `total_nodes`."""
    yield _header_node(shape, total_nodes)
    yield from _leaves(shape, records)
    firsts, below = shape.leaves, 1
    for height, level in enumerate(shape.levels, 2):
        yield from _index_level(shape, records, level, firsts, below, height)
        below += len(firsts)
        firsts = tuple(firsts[number] for number in level)
    for _ in range(total_nodes - shape.nodes):
        yield bytes(shape.rules.node_size)


def _leaves(shape: TreeShape, records: Records) -> Iterator[bytes]:
    count = len(shape.leaves)
    for number, first in enumerate(shape.leaves):
        end = shape.leaves[number + 1] if number + 1 < count else shape.record_count
        head = _descriptor(LEAF_NODE, 1, 1, number, count, end - first)
        yield _node(head, [records.record(index) for index in range(first, end)], shape.rules.node_size)


def _index_level(
    shape: TreeShape, records: Records, level: tuple[int, ...], firsts: tuple[int, ...], below: int, height: int
) -> Iterator[bytes]:
    """`firsts` has the first record of each node of the level below, whose first node is number `below`."""
    start, count = below + len(firsts), len(level)
    for number, first in enumerate(level):
        end = level[number + 1] if number + 1 < count else len(firsts)
        head = _descriptor(INDEX_NODE, height, start, number, count, end - first)
        inside = [records.key(firsts[child]) + struct.pack(">I", below + child) for child in range(first, end)]
        yield _node(head, inside, shape.rules.node_size)


def _descriptor(kind: int, height: int, start: int, number: int, count: int, records: int) -> bytes:
    """Node `number` of a level of `count`, whose first one is node `start`."""
    here = start + number
    return NodeDescriptor(
        fLink=here + 1 if number + 1 < count else 0,
        bLink=here - 1 if number else 0,
        kind=kind,
        height=height,
        numRecords=records,
    ).pack()


def _node(head: bytes, records: Sequence[bytes], size: int) -> bytes:
    offsets = [NodeDescriptor.SIZE]
    for data in records:
        offsets.append(offsets[-1] + len(data))
    table = struct.pack(f">{len(offsets)}H", *reversed(offsets))
    return b"".join((head, *records)).ljust(size - len(table), b"\0") + table


def _header_node(shape: TreeShape, total_nodes: int) -> bytes:
    rules, leaves = shape.rules, len(shape.leaves)
    header = TreeHeader(
        treeDepth=len(shape.levels) + 1 if leaves else 0,
        rootNode=shape.nodes - 1 if leaves else 0,
        leafRecords=shape.record_count,
        firstLeafNode=1 if leaves else 0,
        lastLeafNode=leaves,
        nodeSize=rules.node_size,
        maxKeyLength=rules.key_most,
        totalNodes=total_nodes,
        freeNodes=total_nodes - shape.nodes,
        clumpSize=total_nodes * rules.node_size,
        keyCompareType=rules.compare,
        attributes=rules.attributes,
    ).pack()
    in_use = (1 << total_nodes) - (1 << (total_nodes - shape.nodes))  # the first node is the first byte's highest bit
    size = rules.node_size - _MAP_OVERHEAD
    bits = (in_use << (8 * size - total_nodes)).to_bytes(size, "big")
    head = NodeDescriptor(fLink=0, bLink=0, kind=HEADER_NODE, height=0, numRecords=3).pack()
    return _node(head, [header, bytes(_USER_DATA), bits], rules.node_size)
