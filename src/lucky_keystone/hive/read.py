"""Reads a registry hive, strictly: no number is believed before it was checked against the bytes it points into."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from typing import TypeVar

from msgspec import Struct

from ..common.errors import SourceError
from ..common.record import Record, RecordError
from .records import (
    BASE_SIZE,
    BIN_ALIGNMENT,
    CELL_ALIGNMENT,
    CELL_HEAD,
    INLINE,
    KEY_NAME_IS_LATIN_1,
    SEGMENT,
    VALUE_NAME_IS_LATIN_1,
    BaseBlock,
    BinHeader,
    DividedValue,
    KeyNode,
    ListHead,
    ValueNode,
    checksum,
    folded,
    name_order,
)

_R = TypeVar("_R", bound=Record)

MOST_DEPTH = 512
"""Keys within each other, as many as systems allow."""
_LARGEST_VALUE = 64 << 20


class HiveError(SourceError):
    """The bytes are not a registry hive, or a damaged one."""


class Value(Struct, frozen=True):
    """A value of a key."""

    name: str
    """'' for the key's default value."""
    type: int
    """SZ and so on."""
    data: bytes
    cell: int

    def number(self) -> int:
        """Return its data as a number."""
        return int.from_bytes(self.data, "little")


class Hive:
    """A hive in memory."""

    def __init__(self, data: bytes | bytearray, what: str) -> None:
        """`what` names the hive in errors. Raises HiveError where it is not one, or its bins are damaged."""
        self.data, self.what = data, what
        if len(data) < BASE_SIZE or data[:4] != b"regf":
            raise HiveError(f"{what} is not a registry hive.", advice="The file is damaged, or another one is meant.")
        self.base = BaseBlock.unpack(data)
        if self.base.checksum != checksum(data):
            raise self.fault(508, "the checksum of its base block is wrong")
        if (self.base.major, self.base.kind, self.base.format) != (1, 0, 1):
            raise self.fault(20, "its version or kind is unknown")
        if self.base.bins_size % BIN_ALIGNMENT or BASE_SIZE + self.base.bins_size > len(data):
            raise self.fault(40, f"its bins have {self.base.bins_size:,} bytes, out of {len(data) - BASE_SIZE:,}")
        self._bins = list(self._walk_bins())

    @property
    def is_dirty(self) -> bool:
        """True when the last writes to it are in its logs only."""
        return self.base.sequence_1 != self.base.sequence_2

    @property
    def root(self) -> Key:
        """The root key. Raises HiveError."""
        return Key(self, self.base.root, None, 0)

    def find(self, path: str) -> Key | None:
        """Return the key at a path from the root on, backslashes between names, case ignored; None if there is none."""
        here: Key | None = self.root
        for name in filter(None, path.split("\\")):
            here = here.subkey(name) if here is not None else None
        return here

    def walk(self) -> Iterator[tuple[str, Key]]:
        """Yield every key below the root with its path, a key before what it holds."""
        waiting = [("", self.root)]
        while waiting:
            prefix, key = waiting.pop()
            below = [(f"{prefix}{child.name}", child) for child in key.subkeys()]
            yield from below
            waiting += [(f"{path}\\", child) for path, child in reversed(below)]

    def cell(self, offset: int, what: str) -> tuple[int, int]:
        """Return where the bytes of a cell in use begin and end in the file. Raises HiveError."""
        at = BASE_SIZE + offset
        if offset % CELL_ALIGNMENT or not 0 <= offset < self.base.bins_size:
            raise self.fault(at, f"{what} leads outside of it")
        number = bisect_right(self._bins, offset) - 1
        end = self._bins[number + 1] if number + 1 < len(self._bins) else self.base.bins_size
        size = -int.from_bytes(self.data[at : at + 4], "little", signed=True)
        if offset < self._bins[number] + BinHeader.SIZE or size < CELL_ALIGNMENT or size % CELL_ALIGNMENT:
            raise self.fault(at, f"{what} is in no cell that is in use")
        if offset + size > end:
            raise self.fault(at, f"a cell of {size:,} bytes reaches beyond its bin")
        return at + CELL_HEAD, at + size

    def unpack(self, kind: type[_R], offset: int, what: str) -> tuple[_R, int, int]:
        """Return a record at the start of a cell, where it ends, and where the cell ends. Raises HiveError."""
        start, end = self.cell(offset, what)
        try:
            found = kind.unpack(memoryview(self.data)[start:end])
        except RecordError as error:
            raise self.fault(start, f"{what} does not fit its cell") from error
        return found, start + kind.SIZE, end

    def fault(self, at: int, why: str) -> HiveError:
        return HiveError(f"{self.what}, byte {at:,}: {why}.", advice="The registry hive is damaged.")

    def _walk_bins(self) -> Iterator[int]:
        at = 0
        while at < self.base.bins_size:
            header = BinHeader.unpack(self.data, BASE_SIZE + at)
            if header.magic != b"hbin" or header.offset != at:
                raise self.fault(BASE_SIZE + at, "a bin is expected there")
            if not header.size or header.size % BIN_ALIGNMENT or at + header.size > self.base.bins_size:
                raise self.fault(BASE_SIZE + at, f"a bin has an invalid size of {header.size:,} bytes")
            yield at
            at += header.size
        if not at:
            raise self.fault(40, "it has no bins")

    @property
    def bins(self) -> list[int]:
        """Where the bins begin, from the first one on."""
        return self._bins


class Key:
    """A key of a hive."""

    __slots__ = ("_hive", "cell", "depth", "name", "node")

    def __init__(self, hive: Hive, cell: int, parent: int | None, depth: int) -> None:
        self._hive, self.cell, self.depth = hive, cell, depth
        node, start, end = hive.unpack(KeyNode, cell, "a key")
        self.node: KeyNode = node
        if node.magic != b"nk" or start + node.name_size > end:
            raise hive.fault(start, "a key is damaged")
        # A key that is not where its parent looked for it would let a search loop.
        if (parent is not None and node.parent != parent) or depth > MOST_DEPTH:
            raise hive.fault(start, "a key belongs to another one, or is nested too deeply")
        self.name = _decoded(hive.data[start : start + node.name_size], node.flags & KEY_NAME_IS_LATIN_1)

    def subkeys(self) -> Iterator[Key]:
        """Yield the keys below, in order. Raises HiveError for lists that are damaged, or not in order."""
        seen: set[int] = set()
        before = ""
        for cell in self._listed() if self.node.subkey_count else ():
            key = Key(self._hive, cell, self.cell, self.depth + 1)
            # How letters beyond ASCII are folded differs from system to system.
            is_known = key.name.isascii() and before.isascii() and seen
            if cell in seen or (is_known and name_order(key.name) <= name_order(before)):
                raise self._hive.fault(BASE_SIZE + cell, f"the keys below '{self.name}' are not in order")
            seen.add(cell)
            before = key.name
            yield key
        if len(seen) != self.node.subkey_count:
            raise self._hive.fault(
                BASE_SIZE + self.cell, f"'{self.name}' has {len(seen):,} keys below it, not {self.node.subkey_count:,}"
            )

    def subkey(self, name: str) -> Key | None:
        """Return the key of that name, case ignored."""
        wanted = folded(name)
        return next((key for key in self.subkeys() if folded(key.name) == wanted), None)

    def values(self) -> Iterator[Value]:
        """Yield its values. Raises HiveError."""
        if not self.node.value_count:
            return
        start, end = self._hive.cell(self.node.values, "a list of values")
        if start + 4 * self.node.value_count > end:
            raise self._hive.fault(start, f"a list of {self.node.value_count:,} values does not fit its cell")
        for at in range(start, start + 4 * self.node.value_count, 4):
            yield self._value(int.from_bytes(self._hive.data[at : at + 4], "little"))

    def value(self, name: str) -> Value | None:
        """Return the value of that name, case ignored."""
        wanted = folded(name)
        return next((value for value in self.values() if folded(value.name) == wanted), None)

    def _value(self, cell: int) -> Value:
        hive = self._hive
        node, start, end = hive.unpack(ValueNode, cell, "a value")
        if node.magic != b"vk" or start + node.name_size > end:
            raise hive.fault(start, "a value is damaged")
        name = _decoded(hive.data[start : start + node.name_size], node.flags & VALUE_NAME_IS_LATIN_1)
        return Value(name, node.type, self._data(node, start), cell)

    def _data(self, node: ValueNode, at: int) -> bytes:
        hive, size = self._hive, node.data_size & ~INLINE
        if node.data_size & INLINE:
            if size > 4:
                raise hive.fault(at, f"a value of {size:,} bytes is said to lie in 4")
            return node.data.to_bytes(4, "little")[:size]
        if not size:
            return b""
        start, end = hive.cell(node.data, "a value's data")
        if size > SEGMENT and hive.base.minor >= 4:
            return self._divided(node.data, size)
        if start + size > end:
            raise hive.fault(start, f"a value of {size:,} bytes does not fit its cell")
        return bytes(hive.data[start : start + size])

    def _divided(self, cell: int, size: int) -> bytes:
        hive = self._hive
        head, start, _ = hive.unpack(DividedValue, cell, "a divided value")
        if head.magic != b"db" or size > _LARGEST_VALUE or head.count != -(-size // SEGMENT):
            raise hive.fault(start, "a divided value is damaged")
        at, end = hive.cell(head.segments, "a list of segments")
        if at + 4 * head.count > end:
            raise hive.fault(at, "a list of segments does not fit its cell")
        pieces = []
        for number in range(head.count):
            segment = int.from_bytes(hive.data[at + 4 * number : at + 4 * number + 4], "little")
            first, last = hive.cell(segment, "a segment")
            wanted = min(SEGMENT, size - number * SEGMENT)
            if first + wanted > last:
                raise hive.fault(first, "a segment does not fit its cell")
            pieces.append(bytes(hive.data[first : first + wanted]))
        return b"".join(pieces)

    def _listed(self) -> Iterator[int]:
        """Yield the cells of the keys below."""
        head, start, end = self._hive.unpack(ListHead, self.node.subkeys, "a list of keys")
        if head.magic != b"ri":
            yield from self._entries(head, start, end)
            return
        for cell in self._entries(ListHead(magic=b"li", count=head.count), start, end):
            below, at, last = self._hive.unpack(ListHead, cell, "a list of keys")
            yield from self._entries(below, at, last)

    def _entries(self, head: ListHead, start: int, end: int) -> Iterator[int]:
        width = {b"lf": 8, b"lh": 8, b"li": 4}.get(head.magic)
        if width is None or start + width * head.count > end:
            raise self._hive.fault(start, "a list of keys is damaged")
        for at in range(start, start + width * head.count, width):
            yield int.from_bytes(self._hive.data[at : at + 4], "little")


def _decoded(stored: bytes | bytearray, is_latin_1: int) -> str:
    return bytes(stored).decode("latin-1" if is_latin_1 else "utf-16-le", "replace")
