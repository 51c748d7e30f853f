"""Structures of the install-image format, as its published description names them. Offsets in bytes."""

from __future__ import annotations

from functools import cache
from typing import Any

from ..common.later import np
from ..common.record import Record, raw, record, u16, u32, u64, unsigned

MAGIC = b"MSWIM\0\0\0"

HEADER_SPANNED = 0x08
"""Header flag: one part of several ("Header flags", FLAG_HEADER_SPANNED)."""

HEADER_XPRESS, HEADER_LZX, HEADER_LZMS = 0x0002_0000, 0x0004_0000, 0x0008_0000
"""Header flags: how resources are compressed ("Header flags", FLAG_HEADER_COMPRESS_...)."""

RESOURCE_METADATA, RESOURCE_COMPRESSED, RESOURCE_SOLID = 0x02, 0x04, 0x10
"""Resource flags: an edition's folder tree; compressed; several resources in one stream."""

SOLID_VERSION = 0xE00
SOLID_RESOURCE = 1 << 32
"""Original size in the row of a solid resource itself. Rows of what lies within it have places in its decoded bytes."""


@record(size=24)
class ResourceHeader(Record):
    """Where a resource lies (RESHDR_DISK_SHORT)."""

    stored_size: int = unsigned(0, 7, "bytes in the file", default=0)
    flags: int = unsigned(7, 1, "RESOURCE_ bits", default=0)
    offset: int = u64(8, "bytes from the start of the file", default=0)
    original_size: int = u64(16, "bytes after decompression", default=0)


@record(size=208)
class Header(Record):
    """The file's first 208 bytes (WIMHEADER_V1_PACKED)."""

    magic: bytes = raw(0, 8, "MSWIM and three zeros", default=MAGIC)
    header_size: int = u32(8, "bytes", default=208)
    version: int = u32(12, "0x10D00, or 0xE00 for solid images", default=0x10D00)
    flags: int = u32(16, "HEADER_ bits, and which compression")
    chunk_size: int = u32(20, "bytes of a compressed chunk, 0 when nothing is compressed")
    guid: bytes = raw(24, 16, "the same in all parts of an image")
    part_number: int = u16(40, "from 1", default=1)
    part_count: int = u16(42, "", default=1)
    image_count: int = u32(44, "editions")
    lookup_table: bytes = raw(48, 24, "ResourceHeader")
    xml: bytes = raw(72, 24, "ResourceHeader")
    boot_metadata: bytes = raw(96, 24, "ResourceHeader of the edition that is started", default=bytes(24))
    boot_index: int = u32(120, "from 1; 0 = none is started", default=0)
    integrity: bytes = raw(124, 24, "ResourceHeader", default=bytes(24))
    unused: bytes = raw(148, 60, "zero", default=bytes(60))


RESOURCE_SIZE = 50
"""Bytes of a lookup table entry."""


@cache
def resource_dtype() -> np.dtype[Any]:
    """Return a lookup table entry as an array type: an image may have hundreds of thousands."""
    return np.dtype(
        [
            ("size_and_flags", "<u8"),  # 7 bytes stored size, 1 byte RESOURCE_ bits
            ("offset", "<u8"),  # bytes from the start of the file
            ("original_size", "<u8"),  # bytes after decompression
            ("part", "<u2"),  # the part that holds it, from 1
            ("references", "<u4"),  # how often the editions use it
            ("sha1", "V20"),  # of the decompressed bytes
        ]
    )


SIZE_MASK = (1 << 56) - 1


@record(size=12)
class IntegrityHeader(Record):
    """Head of the integrity table; 20-byte SHA-1 sums follow."""

    size: int = u32(0, "bytes of the whole table")
    count: int = u32(4, "sums")
    chunk_size: int = u32(8, "bytes each sum covers", default=10 << 20)


ATTRIBUTE_FOLDER, ATTRIBUTE_REPARSE, ATTRIBUTE_ENCRYPTED = 0x10, 0x400, 0x4000


@record(size=102)
class DirectoryEntry(Record):
    """An entry of an edition's folder tree up to its name (DIRENTRY). Its short name and its streams follow."""

    length: int = u64(0, "bytes of the entry, names included, a multiple of 8; 0 ends a folder")
    attributes: int = u32(8, "as NTFS has them")
    security: int = u32(12, "FFFFFFFFh = none", default=0xFFFFFFFF)
    children: int = u64(16, "offset of the first entry below, 0 for files", default=0)
    unused: bytes = raw(24, 16, "", default=bytes(16))
    created: int = u64(40, "100 ns since 1601", default=0)
    accessed: int = u64(48, "100 ns since 1601", default=0)
    written: int = u64(56, "100 ns since 1601", default=0)
    sha1: bytes = raw(
        64, 20, "of the bytes of the unnamed stream; zeros where it is empty or listed", default=bytes(20)
    )
    reserved: int = u32(84, "", default=0)
    hard_link: int = u64(
        88, "the same for all names of a file, 0 for none; of a reparse point its tag first", default=0
    )
    streams: int = u16(96, "stream entries that follow", default=0)
    short_length: int = u16(98, "bytes", default=0)
    name_length: int = u16(100, "bytes")


@record(size=38)
class StreamEntry(Record):
    """A stream of the entry before it, up to its name (STREAMENTRY)."""

    length: int = u64(0, "bytes of the entry, name included, a multiple of 8")
    reserved: int = u64(8, "", default=0)
    sha1: bytes = raw(16, 20, "of its bytes")
    name_length: int = u16(36, "bytes; 0 for the unnamed stream", default=0)
