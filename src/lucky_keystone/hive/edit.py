"""Changes single values of a hive and leaves everything else in it where and as it is."""

from __future__ import annotations

from ..content.extents import align_up
from .make import key_hint, value_node
from .read import Hive, HiveError, Key
from .records import (
    BASE_SIZE,
    BIN_ALIGNMENT,
    CELL_ALIGNMENT,
    CELL_HEAD,
    DWORD,
    INLINE,
    KEY_NAME_IS_LATIN_1,
    NOWHERE,
    BaseBlock,
    BinHeader,
    KeyNode,
    ListHead,
    SecurityNode,
    ValueNode,
    checksum,
    name_order,
    stored_name,
)


class HiveEditor:
    """A copy of a hive that is being changed."""

    def __init__(self, data: bytes, what: str) -> None:
        """Raises HiveError for a hive that is damaged. A dirty one is taken as it is, and clean afterwards."""
        self._data, self._what = bytearray(data), what
        self._hive = Hive(self._data, what)
        used = BASE_SIZE + self._hive.base.bins_size
        self._behind = bytes(self._data[used:])  # systems leave room behind the bins; it stays
        del self._data[used:]
        self._free: list[tuple[int, int]] | None = None

    def set_number(self, path: str, name: str, number: int) -> bool:
        """Give the key at `path` a DWORD value; a missing key is made, but its parent must exist.

        Returns False where the value has that number already. Raises HiveError.
        """
        above, _, last = path.rpartition("\\")
        key = self._hive.find(path)
        if key is None:
            parent = self._hive.find(above)
            if parent is None:
                raise HiveError(f"{self._what} has no key {above}.", advice="It is not a system's hive, or damaged.")
            key = self._add_key(parent, last)
        data = number.to_bytes(4, "little")
        value = key.value(name)
        if value is not None and (value.type, value.data) == (DWORD, data):
            return False
        if value is None:
            self._add_value(key, name, data)
        else:
            node = ValueNode.unpack(self._data, BASE_SIZE + value.cell + CELL_HEAD)
            if not node.data_size & INLINE and node.data_size:
                self._release(node.data)
            at = BASE_SIZE + value.cell + CELL_HEAD
            self._write(at + ValueNode.offset_of("data_size"), (4 | INLINE).to_bytes(4, "little") + data)
            self._write(at + ValueNode.offset_of("type"), DWORD.to_bytes(4, "little"))
        return True

    def finished(self) -> bytes:
        """Return the whole hive, clean."""
        base = self._data
        base[8:12] = base[4:8]  # both sequence numbers
        base[508:512] = checksum(base).to_bytes(4, "little")
        made = bytes(self._data) + self._behind
        Hive(made, self._what)
        return made

    # -- keys and values -----------------------------------------------------------------------------------------

    def _add_value(self, key: Key, name: str, data: bytes) -> None:
        cell = self._with(value_node(name, DWORD, data, 0))
        node = self._node(key)
        count, old = node.value_count, node.values
        before = b""
        if count:
            start, _ = self._hive.cell(old, "a list of values")
            before = bytes(self._data[start : start + 4 * count])
        listed = self._with(before + cell.to_bytes(4, "little"))
        self._set(key, "value_count", count + 1)
        self._set(key, "values", listed)
        self._set(key, "longest_value_name", max(node.longest_value_name, 2 * len(name)))
        self._set(key, "longest_value", max(node.longest_value, len(data)))
        if count:
            self._release(old)

    def _add_key(self, parent: Key, name: str) -> Key:
        """Add a key without values. It shares the security descriptor of its parent."""
        node = self._node(parent)
        stored, is_latin_1 = stored_name(name)
        made = KeyNode(
            flags=KEY_NAME_IS_LATIN_1 if is_latin_1 else 0,
            written=node.written,
            parent=parent.cell,
            security=node.security,
            name_size=len(stored),
        )
        cell = self._with(made.pack() + stored)
        security, start, _ = self._hive.unpack(SecurityNode, node.security, "a security descriptor")
        at = start - SecurityNode.SIZE + SecurityNode.offset_of("references")
        self._write(at, (security.references + 1).to_bytes(4, "little"))
        self._list_key(parent, node, cell, name)
        self._set(parent, "subkey_count", node.subkey_count + 1)
        longest = node.longest_subkey_name
        self._set(parent, "longest_subkey_name", longest & ~0xFFFF | max(longest & 0xFFFF, 2 * len(name)))
        return Key(self._hive, cell, parent.cell, parent.depth + 1)

    def _list_key(self, parent: Key, node: KeyNode, cell: int, name: str) -> None:
        """Put a new key into the list of its parent, in its place in order."""
        place = sum(name_order(each.name) < name_order(name) for each in parent.subkeys())
        if not node.subkey_count:
            magic = b"lh" if self._hive.base.minor >= 5 else b"lf"
            entry = self._entry(magic, cell, name)
            self._set(parent, "subkeys", self._with(ListHead(magic=magic, count=1).pack() + entry))
            return
        head, start, _ = self._hive.unpack(ListHead, node.subkeys, "a list of keys")
        if head.magic != b"ri":
            self._set(parent, "subkeys", self._grown(node.subkeys, place, cell, name))
            return
        for number in range(head.count):
            at = start + 4 * number
            below = int.from_bytes(self._data[at : at + 4], "little")
            count = self._hive.unpack(ListHead, below, "a list of keys")[0].count
            if place <= count:  # behind the last of a list is as good as in front of the first of the next
                self._write(at, self._grown(below, place, cell, name).to_bytes(4, "little"))
                return
            place -= count

    def _grown(self, cell: int, place: int, added: int, name: str) -> int:
        """Return the cell of a list with one more key; the old one is free then."""
        head, start, _ = self._hive.unpack(ListHead, cell, "a list of keys")
        width = 4 if head.magic == b"li" else 8
        if head.count == 0xFFFF:
            raise self._hive.fault(start, "a list of keys is full")
        entries = bytes(self._data[start : start + width * head.count])
        entry = self._entry(head.magic, added, name)
        content = entries[: width * place] + entry + entries[width * place :]
        made = self._with(ListHead(magic=head.magic, count=head.count + 1).pack() + content)
        self._release(cell)
        return made

    @staticmethod
    def _entry(magic: bytes, cell: int, name: str) -> bytes:
        return cell.to_bytes(4, "little") + (b"" if magic == b"li" else key_hint(name, magic == b"lh"))

    def _node(self, key: Key) -> KeyNode:
        """Return a key's record as it is now."""
        return KeyNode.unpack(self._data, BASE_SIZE + key.cell + CELL_HEAD)

    def _set(self, key: Key, field: str, number: int) -> None:
        self._write(BASE_SIZE + key.cell + CELL_HEAD + KeyNode.offset_of(field), number.to_bytes(4, "little"))
        key.node = self._node(key)

    def _write(self, at: int, data: bytes) -> None:
        self._data[at : at + len(data)] = data

    # -- cells ---------------------------------------------------------------------------------------------------

    def _with(self, content: bytes) -> int:
        """Return a new cell with this content: a part of a free one, or in a new bin at the end."""
        size = align_up(CELL_HEAD + len(content), CELL_ALIGNMENT)
        free = self._free_cells()
        number = next((number for number, (_, room) in enumerate(free) if room >= size), None)
        if number is None:
            free.append(self._new_bin(size))
            number = len(free) - 1
        cell, room = free.pop(number)
        if room > size:  # all sizes are multiples of 8, so the rest is a cell too
            self._write(BASE_SIZE + cell + size, (room - size).to_bytes(4, "little"))
            free.insert(number, (cell + size, room - size))
        self._write(
            BASE_SIZE + cell, (-size).to_bytes(4, "little", signed=True) + content.ljust(size - CELL_HEAD, b"\0")
        )
        return cell

    def _release(self, cell: int) -> None:
        """Make a cell free. It is not used again here: what was in it can still be read."""
        if cell == NOWHERE:
            return
        start, end = self._hive.cell(cell, "a cell")
        self._write(start - CELL_HEAD, (end - start + CELL_HEAD).to_bytes(4, "little"))

    def _free_cells(self) -> list[tuple[int, int]]:
        """Return the free cells (offset, bytes), walking all bins. Raises HiveError for an invalid cell."""
        if self._free is not None:
            return self._free
        self._free = []
        bins = [*self._hive.bins, self._hive.base.bins_size]
        for first, end in zip(bins, bins[1:], strict=False):
            at = first + BinHeader.SIZE
            while at < end:
                size = int.from_bytes(self._data[BASE_SIZE + at : BASE_SIZE + at + 4], "little", signed=True)
                if not size or abs(size) % CELL_ALIGNMENT or at + abs(size) > end:
                    raise self._hive.fault(BASE_SIZE + at, f"a cell has an invalid size of {abs(size):,} bytes")
                if size > 0:
                    self._free.append((at, size))
                at += abs(size)
        return self._free

    def _new_bin(self, size: int) -> tuple[int, int]:
        """Append a bin that has room for a cell of `size` bytes; return its one free cell."""
        start = self._hive.base.bins_size
        length = align_up(BinHeader.SIZE + size, BIN_ALIGNMENT)
        room = length - BinHeader.SIZE
        head = BinHeader(offset=start, size=length).pack() + room.to_bytes(4, "little")
        self._data += head.ljust(length, b"\0")
        # What systems left behind the bins is where the new bin is now, if there was as much of it.
        self._behind = self._behind[length:]
        self._write(BaseBlock.offset_of("bins_size"), (start + length).to_bytes(4, "little"))
        self._write(508, checksum(self._data).to_bytes(4, "little"))
        self._hive = Hive(self._data, self._what)
        return start + BinHeader.SIZE, room
