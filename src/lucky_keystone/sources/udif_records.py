"""Structures of a disk image (UDIF). The vendor documents none of them; the names are those its own tools print.

All numbers are big-endian; sectors have 512 bytes whatever is inside.
"""

from __future__ import annotations

from ..common.record import Record, raw, record, u32, u64

SECTOR = 512
TRAILER_MAGIC, MAP_MAGIC = b"koly", b"mish"
CRC32 = 2
"""A kind of checksum; 0 means no checksum."""

ZERO_FILL, RAW, IGNORE = 0, 1, 2
COMMENT, TERMINATOR = 0x7FFF_FFFE, 0xFFFF_FFFF
COMPRESSED = {
    0x8000_0004: "ADC",
    0x8000_0005: "zlib",
    0x8000_0006: "bzip2",
    0x8000_0007: "LZFSE",
    0x8000_0008: "xz",
}
"""Kinds of block with the name of what decodes them."""


@record(size=136, big_endian=True)
class Checksum(Record):
    """A checksum of any kind."""

    type: int = u32(0, "2: CRC-32", default=0)
    bits: int = u32(4, "32 of a CRC-32", default=0)
    value: bytes = raw(8, 128, "its bytes, then zeros", default=bytes(128))

    @property
    def crc32(self) -> int | None:
        """The sum; None where there is none, or of another kind."""
        return int.from_bytes(self.value[:4], "big") if self.type == CRC32 and self.bits == 32 else None


@record(size=512, big_endian=True)
class Trailer(Record):
    """The last 512 bytes of the file."""

    magic: bytes = raw(0, 4, "'koly'", default=TRAILER_MAGIC)
    version: int = u32(4, "4", default=4)
    header_size: int = u32(8, "bytes", default=512)
    flags: int = u32(12, "1: flattened", default=1)
    running_data_offset: int = u64(16, "bytes", default=0)
    data_offset: int = u64(24, "bytes: where the stored blocks begin", default=0)
    data_length: int = u64(32, "bytes of stored blocks")
    resource_offset: int = u64(40, "bytes", default=0)
    resource_length: int = u64(48, "bytes", default=0)
    segment_number: int = u32(56, "from 1", default=1)
    segment_count: int = u32(60, "files that the image is divided into", default=1)
    segment_id: bytes = raw(64, 16, "the same in all of them")
    data_checksum: bytes = raw(80, 136, "Checksum of the stored blocks")
    list_offset: int = u64(216, "bytes: the property list")
    list_length: int = u64(224, "bytes")
    reserved: bytes = raw(232, 120, "", default=bytes(120))
    master_checksum: bytes = raw(352, 136, "Checksum of the checksums of all maps")
    variant: int = u32(488, "1: a whole disk, 2: a partition", default=1)
    sector_count: int = u64(492, "sectors of 512 bytes that come out")
    reserved2: bytes = raw(500, 12, "", default=bytes(12))


@record(size=204, big_endian=True)
class BlockMap(Record):
    """The head of the blocks of one partition."""

    magic: bytes = raw(0, 4, "'mish'", default=MAP_MAGIC)
    version: int = u32(4, "1", default=1)
    first_sector: int = u64(8, "of the whole image")
    sector_count: int = u64(16, "sectors")
    data_offset: int = u64(24, "bytes, added to each block's", default=0)
    buffers_needed: int = u32(32, "sectors of the largest block", default=0)
    descriptor: int = u32(36, "number of the map", default=0)
    reserved: bytes = raw(40, 24, "", default=bytes(24))
    checksum: bytes = raw(64, 136, "Checksum of what comes out")
    block_count: int = u32(200, "blocks")


@record(size=40, big_endian=True)
class Block(Record):
    """A block of a map."""

    type: int = u32(0, "how it is stored")
    comment: int = u32(4, "", default=0)
    sector: int = u64(8, "from the map's first sector")
    sector_count: int = u64(16, "sectors")
    offset: int = u64(24, "bytes, from where the stored blocks begin")
    length: int = u64(32, "bytes stored")
