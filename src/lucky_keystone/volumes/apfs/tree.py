"""Reads a B-tree of APFS. Every number in it is compared with what it lies in; walks are bounded."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from ..volume import VolumeError
from .records import (
    BLOCK,
    FIXED,
    GHOST,
    HASHED,
    LEAF,
    ROOT_NODE,
    NodeHead,
    ObjectHead,
    TreeInfo,
)

_MOST_LEVELS = 12
_NODES_KEPT = 512
_TABLE = ObjectHead.SIZE + NodeHead.SIZE

Key = tuple[Any, ...]
"""What a tree is sorted by: two numbers, and what else a key has. Of the rest no order is asked."""


class ReadNode(Struct, frozen=True):
    """A node as it was read."""

    head: NodeHead
    keys: Sequence[Key]
    values: Sequence[bytes | None]
    """None for a key without one."""

    @property
    def is_leaf(self) -> bool:
        return bool(self.head.btn_flags & LEAF)


class Tree:
    """A tree by its root.

    `read` returns the checked block of a node by its number; `key_of` makes of the bytes of a key what it is sorted by.
    """

    def __init__(
        self, what: str, root: int, read: Callable[[int], bytes], key_of: Callable[[bytes], Key], value_size: int = 0
    ) -> None:
        """`value_size` is that of leaves of trees with fixed sizes whose root does not say it."""
        self.what, self._root, self._read, self._key_of = what, root, read, key_of
        self._nodes: OrderedDict[int, ReadNode] = OrderedDict()
        block = read(root)
        head = NodeHead.unpack(block, ObjectHead.SIZE)
        self._require(bool(head.btn_flags & ROOT_NODE), "its root is not marked as that")
        self.info = TreeInfo.unpack(block, BLOCK - TreeInfo.SIZE)
        self._require(self.info.bt_node_size == BLOCK, f"nodes of {self.info.bt_node_size:,} bytes are not supported")
        self._level = head.btn_level
        self._value_size = self.info.bt_val_size or value_size
        self._require(self._level < _MOST_LEVELS, f"{self._level} levels are invalid")

    def _require(self, holds: bool, why: str) -> None:
        if not holds:
            raise VolumeError(f"{self.what}: {why}.")

    # -- looking up --------------------------------------------------------------------------------------------------

    def last_up_to(self, key: Key) -> tuple[Key, bytes | None] | None:
        """Return the last entry whose key is not beyond `key`; None where all are."""
        number, level = self._root, self._level
        while True:
            node = self._node(number, level)
            place = bisect_right(node.keys, key) - 1
            if place < 0:
                return None
            if node.is_leaf:
                return node.keys[place], node.values[place]
            number, level = self._child(node, place), level - 1

    def entries_from(self, key: Key) -> Iterator[tuple[Key, bytes | None]]:
        """Yield the entries from `key` on, in order. Raises VolumeError for nodes that are out of order."""
        yield from self._below(self._root, self._level, key, {self._root})

    def _below(self, number: int, level: int, key: Key, above: set[int]) -> Iterator[tuple[Key, bytes | None]]:
        node = self._node(number, level)
        if node.is_leaf:
            for place in range(bisect_left(node.keys, key), len(node.keys)):
                yield node.keys[place], node.values[place]
            return
        for place in range(max(bisect_left(node.keys, key) - 1, 0), len(node.keys)):
            child = self._child(node, place)
            self._require(child not in above, f"node {child} is met twice")
            yield from self._below(child, level - 1, key, above | {child})

    def _child(self, node: ReadNode, place: int) -> int:
        value = node.values[place]
        assert value is not None
        number = int.from_bytes(value[:8], "little")
        # Of a tree whose nodes are known by their sums the numbers count from the root's.
        return self._root + number if node.head.btn_flags & HASHED else number

    # -- nodes -------------------------------------------------------------------------------------------------------

    def _node(self, number: int, level: int) -> ReadNode:
        kept = self._nodes.get(number)
        if kept is not None:
            self._nodes.move_to_end(number)
        else:
            kept = self._parse(self._read(number), number)
            self._nodes[number] = kept
            if len(self._nodes) > _NODES_KEPT:
                self._nodes.popitem(last=False)
        self._require(kept.head.btn_level == level, f"node {number} is on level {kept.head.btn_level}, not {level}")
        self._require(kept.is_leaf == (level == 0), f"node {number} is of the wrong kind")
        self._require(bool(kept.keys) or number == self._root, f"node {number} is empty")
        return kept

    def _parse(self, block: bytes, number: int) -> ReadNode:
        head = NodeHead.unpack(block, ObjectHead.SIZE)
        end = len(block) - (TreeInfo.SIZE if head.btn_flags & ROOT_NODE else 0)
        is_fixed, is_leaf = bool(head.btn_flags & FIXED), bool(head.btn_flags & LEAF)
        width = 4 if is_fixed else 8
        start = _TABLE + head.table_offset
        keys_at = start + head.table_length
        holds = keys_at <= end and head.btn_nkeys * width <= head.table_length
        self._require(holds, f"the table of node {number} lies outside of it")
        value_size = self._value_size if is_leaf else 8
        keys: list[Key] = []
        values: list[bytes | None] = []
        for at in range(start, start + head.btn_nkeys * width, width):
            key_at = keys_at + int.from_bytes(block[at : at + 2], "little")
            if is_fixed:
                key_size = self.info.bt_key_size
                value_offset, size = int.from_bytes(block[at + 2 : at + 4], "little"), value_size
            else:
                key_size = int.from_bytes(block[at + 2 : at + 4], "little")
                value_offset = int.from_bytes(block[at + 4 : at + 6], "little")
                size = int.from_bytes(block[at + 6 : at + 8], "little")
            self._require(key_at + key_size <= end, f"a key of node {number} lies outside of it")
            keys.append(self._key(block[key_at : key_at + key_size], number))
            if value_offset == GHOST:
                self._require(is_leaf, f"node {number} leads nowhere")
                values.append(None)
                continue
            fits = keys_at <= end - value_offset <= end - size and (is_leaf or size >= 8)
            self._require(fits, f"a value of node {number} lies outside of it")
            values.append(block[end - value_offset : end - value_offset + size])
        in_order = all(keys[place][:2] <= keys[place + 1][:2] for place in range(len(keys) - 1))
        self._require(in_order, f"the keys of node {number} are out of order")
        return ReadNode(head, keys, values)

    def _key(self, data: bytes, number: int) -> Key:
        try:
            return self._key_of(data)
        except (ValueError, IndexError) as error:
            raise VolumeError(f"{self.what}: a key of node {number} is invalid.") from error
