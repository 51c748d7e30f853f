"""Makes a registry hive from a tree of keys."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct, field

from ..common.descriptors import ADMINISTRATORS, INHERITED_BY_ALL, SYSTEM, allowed, descriptor
from ..content.extents import align_up
from .records import (
    BASE_SIZE,
    BIN_ALIGNMENT,
    CELL_ALIGNMENT,
    CELL_HEAD,
    INLINE,
    KEY_IS_ROOT,
    KEY_NAME_IS_LATIN_1,
    NOWHERE,
    SEGMENT,
    VALUE_NAME_IS_LATIN_1,
    BaseBlock,
    BinHeader,
    KeyNode,
    ListHead,
    SecurityNode,
    ValueNode,
    checksum,
    name_hash,
    name_order,
    stored_name,
)

_KEY_ALL_ACCESS = 0x000F_003F  # MS-DTYP 2.4.3, for keys (winnt.h)


class NewKey(Struct):
    """A key to be made."""

    values: dict[str, tuple[int, bytes]] = field(default_factory=dict)
    """Type and data by name."""
    subkeys: dict[str, NewKey] = field(default_factory=dict)

    def below(self, path: str) -> NewKey:
        """Return the key at a path, backslashes between names, made where it is not there."""
        here = self
        for name in path.split("\\"):
            here = here.subkeys.setdefault(name, NewKey())
        return here


def make_hive(root: NewKey, root_name: str, *, minor: int, time: int, name: str = "") -> bytes:
    """Return a clean hive of version 1.`minor` with `root`'s keys, all written at `time` (100 ns since 1601).

    Its keys belong to the system and to administrators. `name` is kept in its base block. Values are up to 16,344
    bytes, and there are up to 65,535 keys in one: ValueError for more.
    """
    return _Maker(minor, time).made(root, root_name, name)


class _Maker:
    def __init__(self, minor: int, time: int) -> None:
        self._minor, self._time = minor, time
        self._data = bytearray()
        self._bin_start = self._next = 0
        self._security = self._references = 0

    def made(self, root: NewKey, root_name: str, name: str) -> bytes:
        access = descriptor(
            ADMINISTRATORS,
            SYSTEM,
            [allowed(INHERITED_BY_ALL & 2, _KEY_ALL_ACCESS, sid) for sid in (SYSTEM, ADMINISTRATORS)],
        )
        root_cell = self._cell(KeyNode.SIZE + len(stored_name(root_name)[0]))  # first, where readers expect it
        self._security = self._cell(SecurityNode.SIZE + len(access))
        self._key(root, root_name, NOWHERE, root_cell)
        node = SecurityNode(next=self._security, previous=self._security, references=self._references, size=len(access))
        self._fill(self._security, node.pack() + access)
        self._close_bin()
        last = name.encode("utf-16-le")[-62:].ljust(64, b"\0")
        base = bytearray(
            BaseBlock(
                sequence_1=1,
                sequence_2=1,
                written=self._time,
                minor=self._minor,
                root=root_cell,
                bins_size=len(self._data),
                name=last,
            ).pack()
        )
        base[508:512] = checksum(base).to_bytes(4, "little")
        return bytes(base).ljust(BASE_SIZE, b"\0") + bytes(self._data)

    def _key(self, key: NewKey, name: str, parent: int, cell: int | None = None) -> int:
        stored, is_latin_1 = stored_name(name)
        cell = self._cell(KeyNode.SIZE + len(stored)) if cell is None else cell
        self._references += 1
        values = [self._value(*each) for each in key.values.items()]
        listed = self._listed(values) if values else NOWHERE
        ordered = sorted(key.subkeys.items(), key=lambda each: name_order(each[0]))
        below = {each: self._key(child, each, cell) for each, child in ordered}
        node = KeyNode(
            flags=(KEY_NAME_IS_LATIN_1 if is_latin_1 else 0) | (KEY_IS_ROOT if parent == NOWHERE else 0),
            written=self._time,
            parent=0 if parent == NOWHERE else parent,
            subkey_count=len(below),
            subkeys=self._subkeys(below) if below else NOWHERE,
            value_count=len(values),
            values=listed,
            security=self._security,
            longest_subkey_name=_longest(key.subkeys),
            longest_value_name=_longest(key.values),
            longest_value=max((len(data) for _, data in key.values.values()), default=0),
            name_size=len(stored),
        )
        self._fill(cell, node.pack() + stored)
        return cell

    def _subkeys(self, below: Mapping[str, int]) -> int:
        """Return the cell of a list of keys: with hashes from minor version 5 on, with first letters before."""
        if len(below) > 0xFFFF:
            raise ValueError(f"{len(below)} keys in one")
        has_hashes = self._minor >= 5
        entries = b"".join(cell.to_bytes(4, "little") + key_hint(name, has_hashes) for name, cell in below.items())
        head = ListHead(magic=b"lh" if has_hashes else b"lf", count=len(below))
        return self._with(head.pack() + entries)

    def _listed(self, cells: list[int]) -> int:
        return self._with(b"".join(cell.to_bytes(4, "little") for cell in cells))

    def _value(self, name: str, typed: tuple[int, bytes]) -> int:
        kind, data = typed
        if len(data) > SEGMENT:
            raise ValueError(f"{name}: {len(data)} bytes in a value")
        return self._with(value_node(name, kind, data, 0 if len(data) <= 4 else self._with(data)))

    # -- cells ---------------------------------------------------------------------------------------------------

    def _with(self, content: bytes) -> int:
        cell = self._cell(len(content))
        self._fill(cell, content)
        return cell

    def _cell(self, content: int) -> int:
        """Return a new cell for `content` bytes, in the last bin if it has room."""
        size = align_up(CELL_HEAD + content, CELL_ALIGNMENT)
        if not self._data or self._next + size > len(self._data):
            self._close_bin()
            self._bin_start = len(self._data)
            length = align_up(BinHeader.SIZE + size, BIN_ALIGNMENT)
            written = 0 if self._bin_start else self._time
            self._data += BinHeader(offset=self._bin_start, size=length, written=written).pack().ljust(length, b"\0")
            self._next = self._bin_start + BinHeader.SIZE
        cell, self._next = self._next, self._next + size
        self._data[cell : cell + 4] = (-size).to_bytes(4, "little", signed=True)
        return cell

    def _fill(self, cell: int, content: bytes) -> None:
        self._data[cell + CELL_HEAD : cell + CELL_HEAD + len(content)] = content

    def _close_bin(self) -> None:
        rest = len(self._data) - self._next
        if rest:
            self._data[self._next : self._next + 4] = rest.to_bytes(4, "little")


def key_hint(name: str, has_hashes: bool) -> bytes:
    """Return what stands beside a key's cell in a list: its hash, or its first four letters."""
    if has_hashes:
        return name_hash(name).to_bytes(4, "little")
    stored, is_latin_1 = stored_name(name)
    return stored[:4].ljust(4, b"\0") if is_latin_1 else bytes(4)


def value_node(name: str, kind: int, data: bytes, cell: int) -> bytes:
    """Return the content of a value's cell. Up to 4 bytes of data are in it, more in `cell`."""
    stored, is_latin_1 = stored_name(name)
    short = len(data) <= 4
    node = ValueNode(
        name_size=len(stored),
        data_size=len(data) | (INLINE if short else 0),
        data=int.from_bytes(data, "little") if short else cell,
        type=kind,
        flags=VALUE_NAME_IS_LATIN_1 if is_latin_1 else 0,
    )
    return node.pack() + stored


def _longest(names: Mapping[str, object]) -> int:
    return max((2 * len(name) for name in names), default=0)
