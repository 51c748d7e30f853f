"""Structures of a registry hive, as its published descriptions name them. Offsets in bytes, numbers little-endian.

A hive is a base block of 4096 bytes, and bins behind it. A bin is divided into cells; a cell is named by its offset
from the first bin on.
"""

from __future__ import annotations

from ..common.record import Record, raw, record, u16, u32, u64

BASE_SIZE = 4096
"""Bytes in front of the first bin."""
BIN_ALIGNMENT = 4096
CELL_ALIGNMENT = 8
CELL_HEAD = 4
"""Bytes of a cell's size, which is negative for a cell in use."""
NOWHERE = 0xFFFF_FFFF
"""Stands for 'no cell'."""
SEGMENT = 16_344
"""Bytes of a value from which on it is divided, and of each of its parts (minor version 4 and later)."""

KEY_IS_ROOT, KEY_NAME_IS_LATIN_1 = 0x04, 0x20
VALUE_NAME_IS_LATIN_1 = 0x01
INLINE = 0x8000_0000
"""Bit of a value's size: its data, up to 4 bytes, are in the field for their offset."""

SZ, BINARY, DWORD, MULTI_SZ = 1, 3, 4, 7
"""Types of values (MS-DTYP 2.1, winnt.h: REG_SZ and so on)."""


@record(size=512)
class BaseBlock(Record):
    """The checked part of the base block."""

    magic: bytes = raw(0, 4, "regf", default=b"regf")
    sequence_1: int = u32(4, "raised before a write")
    sequence_2: int = u32(8, "raised after it; the hive is dirty while they differ")
    written: int = u64(12, "100 ns since 1601", default=0)
    major: int = u32(20, "1", default=1)
    minor: int = u32(24, "3 for boot stores, 5 for a system's hives")
    kind: int = u32(28, "0: primary file", default=0)
    format: int = u32(32, "1: direct memory load", default=1)
    root: int = u32(36, "cell of the root key")
    bins_size: int = u32(40, "bytes of all bins")
    clustering: int = u32(44, "1", default=1)
    name: bytes = raw(48, 64, "the path's last 31 UTF-16 units", default=bytes(64))
    reserved: bytes = raw(112, 396, "", default=bytes(396))
    checksum: int = u32(508, "of the 508 bytes before", default=0)


@record(size=32)
class BinHeader(Record):
    """In front of a bin's cells."""

    magic: bytes = raw(0, 4, "hbin", default=b"hbin")
    offset: int = u32(4, "bytes from the first bin on")
    size: int = u32(8, "bytes, a multiple of 4096")
    reserved: int = u64(12, "", default=0)
    written: int = u64(20, "100 ns since 1601; of the first bin", default=0)
    spare: int = u32(28, "", default=0)


@record(size=76)
class KeyNode(Record):
    """A key, up to its name (nk)."""

    magic: bytes = raw(0, 2, "nk", default=b"nk")
    flags: int = u16(2, "KEY_ bits")
    written: int = u64(4, "100 ns since 1601", default=0)
    access: int = u32(12, "", default=0)
    parent: int = u32(16, "cell of the key above")
    subkey_count: int = u32(20, "", default=0)
    volatile_count: int = u32(24, "of a system that runs", default=0)
    subkeys: int = u32(28, "cell of their list", default=NOWHERE)
    volatile_subkeys: int = u32(32, "of a system that runs", default=NOWHERE)
    value_count: int = u32(36, "", default=0)
    values: int = u32(40, "cell of their list", default=NOWHERE)
    security: int = u32(44, "cell of its descriptor")
    class_name: int = u32(48, "cell", default=NOWHERE)
    longest_subkey_name: int = u32(52, "bytes of UTF-16; the upper half has other meanings", default=0)
    longest_class_name: int = u32(56, "bytes of UTF-16", default=0)
    longest_value_name: int = u32(60, "bytes of UTF-16", default=0)
    longest_value: int = u32(64, "bytes", default=0)
    work_area: int = u32(68, "", default=0)
    name_size: int = u16(72, "bytes as stored")
    class_size: int = u16(74, "bytes", default=0)


@record(size=20)
class ValueNode(Record):
    """A value, up to its name (vk)."""

    magic: bytes = raw(0, 2, "vk", default=b"vk")
    name_size: int = u16(2, "bytes as stored; 0 for the key's default value")
    data_size: int = u32(4, "bytes, and INLINE")
    data: int = u32(8, "cell, or the data themselves")
    type: int = u32(12, "SZ and so on")
    flags: int = u16(16, "VALUE_ bits", default=VALUE_NAME_IS_LATIN_1)
    spare: int = u16(18, "", default=0)


@record(size=20)
class SecurityNode(Record):
    """A security descriptor that keys share, up to its bytes (sk). All of a hive are in one ring."""

    magic: bytes = raw(0, 2, "sk", default=b"sk")
    reserved: int = u16(2, "", default=0)
    next: int = u32(4, "cell")
    previous: int = u32(8, "cell")
    references: int = u32(12, "keys that have it")
    size: int = u32(16, "bytes of the descriptor")


@record(size=4)
class ListHead(Record):
    """In front of a list of subkeys: lf and lh (cell, and 4 bytes of hint), li (cells), ri (cells of such lists)."""

    magic: bytes = raw(0, 2, "lf, lh, li or ri")
    count: int = u16(2, "entries")


@record(size=8)
class DividedValue(Record):
    """A value in several cells (db)."""

    magic: bytes = raw(0, 2, "db", default=b"db")
    count: int = u16(2, "segments")
    segments: int = u32(4, "cell of their list")


def checksum(base: bytes | bytearray) -> int:
    """Return the base block's checksum: its first 508 bytes as 32-bit words, combined by XOR."""
    total = 0
    for at in range(0, 508, 4):
        total ^= int.from_bytes(base[at : at + 4], "little")
    return {0: 1, 0xFFFF_FFFF: 0xFFFF_FFFE}.get(total, total)


def folded(name: str) -> str:
    """Return a name as it is compared: every UTF-16 unit in upper case on its own."""
    upper = "".join(each if len(each := unit.upper()) == 1 else unit for unit in name)
    return upper if len(upper) == len(name) else name


def name_order(name: str) -> bytes:
    """Return what names are sorted by: their folded units."""
    return folded(name).encode("utf-16-be", "surrogatepass")


def name_hash(name: str) -> int:
    """Return the hint of an `lh` list."""
    total = 0
    units = folded(name).encode("utf-16-le", "surrogatepass")
    for at in range(0, len(units), 2):
        total = total * 37 + int.from_bytes(units[at : at + 2], "little") & 0xFFFF_FFFF
    return total


def stored_name(name: str) -> tuple[bytes, bool]:
    """Return a name as it is stored, and whether that is Latin-1."""
    try:
        return name.encode("latin-1"), True
    except UnicodeEncodeError:
        return name.encode("utf-16-le", "surrogatepass"), False


def text(value: str) -> bytes:
    """Return the data of an SZ value."""
    return (value + "\0").encode("utf-16-le")


def texts(values: tuple[str, ...]) -> bytes:
    """Return the data of a MULTI_SZ value."""
    return ("".join(f"{value}\0" for value in values) + "\0").encode("utf-16-le")
