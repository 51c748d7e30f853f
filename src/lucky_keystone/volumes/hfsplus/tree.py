"""Reads a B-tree of an HFS Plus volume. Every number in it is compared with what it lies in; walks are bounded."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from ...common.record import RecordError
from ..volume import VolumeError
from .records import HEADER_NODE, INDEX_NODE, LEAF_NODE, NodeDescriptor, TreeHeader

_MOST_LEVELS = 16
_NODES_KEPT = 256


class ReadNode(Struct, frozen=True):
    """A node as it was read."""

    number: int
    head: NodeDescriptor
    records: tuple[bytes, ...]
    """Keys, with their lengths, and data."""


class Tree:
    """A tree in a file of the volume's own."""

    def __init__(self, what: str, size: int, read: Callable[[int, int], bytes]) -> None:
        """`what` names it in errors, `size` in bytes is its file's; `read` gives the file's bytes at an offset.

        Raises VolumeError for a header that is invalid.
        """
        self.what, self._read, self._size = what, read, size
        self._nodes: dict[int, ReadNode] = {}
        try:
            head = NodeDescriptor.unpack(read(0, NodeDescriptor.SIZE + TreeHeader.SIZE))
            self.header = TreeHeader.unpack(read(0, NodeDescriptor.SIZE + TreeHeader.SIZE), NodeDescriptor.SIZE)
        except RecordError as error:
            raise VolumeError(f"{what}: its header node cannot be read: {error.message}.") from error
        self.node_size = self.header.nodeSize
        self._require(head.kind == HEADER_NODE, "its first node is not a header")
        sizes = [1 << power for power in range(9, 16)]
        self._require(self.node_size in sizes, f"nodes of {self.node_size} bytes are invalid")
        self.node_count = min(self.header.totalNodes, size // self.node_size)
        self._require(self.header.treeDepth <= _MOST_LEVELS, f"{self.header.treeDepth} levels are invalid")
        self._require(self.header.rootNode < max(self.node_count, 1), "its root lies outside of it")

    def _require(self, holds: bool, why: str) -> None:
        if not holds:
            raise VolumeError(f"{self.what}: {why}.")

    def raw_node(self, number: int) -> bytes:
        """Return a node's bytes."""
        self._require(0 < number < self.node_count, f"it has no node {number}")
        data = self._read(number * self.node_size, self.node_size)
        self._require(len(data) == self.node_size, f"node {number} is after the end of its file")
        return data

    def node(self, number: int) -> ReadNode:
        """Return a node. Raises VolumeError for one that is out of order."""
        kept = self._nodes.pop(number, None)
        if kept is None:
            kept = parse_node(self.raw_node(number), number, self.what)
            if len(self._nodes) >= _NODES_KEPT:
                del self._nodes[next(iter(self._nodes))]
        self._nodes[number] = kept
        return kept

    def map_bits(self) -> bytes:
        """Return the map of nodes in use: the header's, and that of all map nodes. Raises VolumeError."""
        found: list[bytes] = []
        head = parse_node(self._read(0, self.node_size), 0, self.what)
        self._require(len(head.records) == 3, "its header node has no map")
        found.append(head.records[2])
        next_map, seen = head.head.fLink, 0
        while next_map:
            node = self.node(next_map)
            seen += 1
            self._require(seen <= self.node_count and len(node.records) == 1, "its map nodes loop or are damaged")
            found.append(node.records[0])
            next_map = node.head.fLink
        return b"".join(found)

    def leaves(self) -> Iterator[ReadNode]:
        """Yield all leaves in their order. Raises VolumeError where the chain breaks or loops."""
        number, seen = self.header.firstLeafNode, 0
        while number:
            node = self.node(number)
            seen += 1
            self._require(node.head.kind == LEAF_NODE, f"node {number} is not a leaf, though the leaves lead to it")
            self._require(seen <= self.node_count, f"its leaves loop at node {number}")
            yield node
            number = node.head.fLink

    def records_from(self, key: Any, key_of: Callable[[bytes], Any]) -> Iterator[bytes]:
        """Yield leaf records from the first whose key is not below `key`. `key_of` takes a key out of a record.

        Raises VolumeError where the tree cannot be followed.
        """
        if not self.header.treeDepth:
            return
        number = self.header.rootNode
        for _ in range(_MOST_LEVELS):
            node = self.node(number)
            if node.head.kind == LEAF_NODE:
                break
            self._require(node.head.kind == INDEX_NODE and bool(node.records), f"node {number} is not an index node")
            child = node.records[0]
            for record in node.records:
                if key_of(record) > key:
                    break
                child = record
            number = self._pointer(child, node.number)
        seen = 0
        while True:
            self._require(node.head.kind == LEAF_NODE, f"no leaf is found below node {self.header.rootNode}")
            for record in node.records:
                if key_of(record) >= key:
                    yield record
            number = node.head.fLink
            seen += 1
            if not number:
                return
            self._require(seen <= self.node_count, f"its leaves loop at node {number}")
            node = self.node(number)

    def _pointer(self, record: bytes, number: int) -> int:
        at = 2 + int.from_bytes(record[:2], "big")
        self._require(at + 4 <= len(record), f"node {number} has an entry without a pointer")
        return int.from_bytes(record[at : at + 4], "big")

    def children(self, node: ReadNode) -> list[int]:
        """Return the nodes that an index node points to."""
        return [self._pointer(record, node.number) for record in node.records]


def parse_node(data: bytes, number: int, what: str) -> ReadNode:
    """Take a node apart. Raises VolumeError when its offsets are invalid."""
    head = NodeDescriptor.unpack(data)
    count = head.numRecords
    if NodeDescriptor.SIZE + 2 * (count + 1) > len(data):
        raise VolumeError(f"{what}: node {number} cannot hold {count} records.")
    offsets: Sequence[int] = struct.unpack_from(f">{count + 1}H", data, len(data) - 2 * (count + 1))[::-1]
    end = len(data) - 2 * (count + 1)
    if offsets[0] != NodeDescriptor.SIZE or offsets[-1] > end:
        raise VolumeError(f"{what}: the records of node {number} lie outside of it.")
    if any(second - first < 2 for first, second in zip(offsets, offsets[1:], strict=False)):
        raise VolumeError(f"{what}: the records of node {number} overlap.")
    pieces = zip(offsets, offsets[1:], strict=False)
    return ReadNode(number, head, tuple(data[first:second] for first, second in pieces))
