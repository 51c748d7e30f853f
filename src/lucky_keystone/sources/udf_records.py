"""UDF structures, declared as in ECMA-167 (third edition) with UDF 1.02 to 2.01 in mind. Offsets in bytes."""

from __future__ import annotations

import binascii
from datetime import datetime

from ..common.record import Record, raw, record, u8, u16, u32, u64
from ..content.tree import EPOCH

BLOCK_SIZE = 2048
"""Logical sector of a disc image in bytes; the only one these readers and writers use."""

ANCHOR, PARTITION, LOGICAL_VOLUME, TERMINATING, PRIMARY, IMPLEMENTATION, UNALLOCATED = 2, 5, 6, 8, 1, 4, 7
FILE_SET, FILE_IDENTIFIER, ALLOCATION_EXTENT, FILE_ENTRY, INTEGRITY, EXTENDED_FILE_ENTRY = 256, 257, 258, 261, 9, 266
"""Tag identifiers: ECMA-167 3/7.2.1 and 4/7.2.1."""

TYPE_FOLDER, TYPE_FILE = 4, 5
"""ICB file types, ECMA-167 4/14.6.6."""

FID_FOLDER, FID_DELETED, FID_PARENT = 0x02, 0x04, 0x08
"""File characteristics, ECMA-167 4/14.4.3."""


@record(size=16)
class Tag(Record):
    """Descriptor tag, ECMA-167 3/7.2."""

    identifier: int = u16(0, "what descriptor this is")
    version: int = u16(2, "2 or 3", default=2)
    checksum: int = u8(4, "sum of the other 15 bytes, modulo 256", default=0)
    reserved: int = u8(5, "zero", default=0)
    serial: int = u16(6, "tag serial number", default=1)
    crc: int = u16(8, "CRC-ITU-T of the bytes behind the tag", default=0)
    crc_length: int = u16(10, "how many bytes the CRC covers", default=0)
    location: int = u32(12, "the block this descriptor lies in")


@record(size=512)
class PartitionDescriptor(Record):
    """ECMA-167 3/10.5."""

    tag: bytes = raw(0, 16, "Tag")
    sequence: int = u32(16, "volume descriptor sequence number")
    flags: int = u16(20, "bit 0: space allocated", default=1)
    number: int = u16(22, "partition number", default=0)
    contents: bytes = raw(24, 32, "entity: +NSR02 or +NSR03")
    contents_use: bytes = raw(56, 128, "space tables, unused on read-only media", default=bytes(128))
    access_type: int = u32(184, "1 = read only", default=1)
    first_sector: int = u32(188, "sectors of the disc")
    sector_count: int = u32(192, "sectors")
    implementation: bytes = raw(196, 32, "entity", default=bytes(32))
    implementation_use: bytes = raw(228, 128, "", default=bytes(128))
    reserved: bytes = raw(356, 156, "zero", default=bytes(156))


@record(size=440)
class LogicalVolumeDescriptor(Record):
    """ECMA-167 3/10.6, up to the partition maps."""

    tag: bytes = raw(0, 16, "Tag")
    sequence: int = u32(16, "volume descriptor sequence number")
    charset: bytes = raw(20, 64, "charspec")
    identifier: bytes = raw(84, 128, "dstring")
    block_size: int = u32(212, "bytes", default=BLOCK_SIZE)
    domain: bytes = raw(216, 32, "entity: *OSTA UDF Compliant")
    file_set: bytes = raw(248, 16, "LongAd of the file set descriptor")
    map_table_length: int = u32(264, "bytes of partition maps")
    map_count: int = u32(268, "partition maps")
    implementation: bytes = raw(272, 32, "entity", default=bytes(32))
    implementation_use: bytes = raw(304, 128, "", default=bytes(128))
    integrity: bytes = raw(432, 8, "extent of the integrity sequence", default=bytes(8))


@record(size=512)
class FileSetDescriptor(Record):
    """ECMA-167 4/14.1."""

    tag: bytes = raw(0, 16, "Tag")
    recorded: bytes = raw(16, 12, "timestamp")
    interchange_level: int = u16(28, "", default=3)
    maximum_interchange_level: int = u16(30, "", default=3)
    charset_list: int = u32(32, "", default=1)
    maximum_charset_list: int = u32(36, "", default=1)
    number: int = u32(40, "", default=0)
    descriptor_number: int = u32(44, "", default=0)
    volume_charset: bytes = raw(48, 64, "charspec")
    volume_identifier: bytes = raw(112, 128, "dstring")
    charset: bytes = raw(240, 64, "charspec")
    identifier: bytes = raw(304, 32, "dstring")
    copyright: bytes = raw(336, 32, "", default=bytes(32))
    abstract: bytes = raw(368, 32, "", default=bytes(32))
    root: bytes = raw(400, 16, "LongAd of the root folder's file entry")
    domain: bytes = raw(416, 32, "entity")
    next_extent: bytes = raw(448, 16, "LongAd", default=bytes(16))
    streams: bytes = raw(464, 16, "LongAd", default=bytes(16))
    reserved: bytes = raw(480, 32, "zero", default=bytes(32))


@record(size=20)
class IcbTag(Record):
    """ECMA-167 4/14.6."""

    prior_entries: int = u32(0, "", default=0)
    strategy: int = u16(4, "4 = direct", default=4)
    strategy_parameter: int = u16(6, "", default=0)
    maximum_entries: int = u16(8, "", default=1)
    reserved: int = u8(10, "", default=0)
    file_type: int = u8(11, "4 folder, 5 file")
    parent: bytes = raw(12, 6, "", default=bytes(6))
    flags: int = u16(18, "bits 0-2: 0 short, 1 long, 2 extended descriptors, 3 data inside the entry", default=0)


@record(size=176)
class FileEntry(Record):
    """ECMA-167 4/14.9, up to the extended attributes."""

    tag: bytes = raw(0, 16, "Tag")
    icb: bytes = raw(16, 20, "IcbTag")
    uid: int = u32(36, "", default=0xFFFFFFFF)
    gid: int = u32(40, "", default=0xFFFFFFFF)
    permissions: int = u32(44, "", default=0x14A5)
    links: int = u16(48, "", default=1)
    record_format: int = u8(50, "", default=0)
    record_display: int = u8(51, "", default=0)
    record_length: int = u32(52, "", default=0)
    length: int = u64(56, "bytes of the file")
    blocks: int = u64(64, "logical blocks recorded")
    accessed: bytes = raw(72, 12, "timestamp")
    modified: bytes = raw(84, 12, "timestamp")
    changed: bytes = raw(96, 12, "timestamp")
    checkpoint: int = u32(108, "", default=1)
    attribute_icb: bytes = raw(112, 16, "LongAd", default=bytes(16))
    implementation: bytes = raw(128, 32, "entity")
    unique_id: int = u64(160, "", default=0)
    attributes_length: int = u32(168, "bytes", default=0)
    descriptors_length: int = u32(172, "bytes of allocation descriptors")


@record(size=216)
class ExtendedFileEntry(Record):
    """ECMA-167 4/14.17, up to the extended attributes."""

    tag: bytes = raw(0, 16, "Tag")
    icb: bytes = raw(16, 20, "IcbTag")
    owner: bytes = raw(36, 20, "uid, gid, permissions, links, record fields")
    length: int = u64(56, "bytes of the file")
    object_size: int = u64(64, "bytes of all streams")
    blocks: int = u64(72, "logical blocks recorded")
    accessed: bytes = raw(80, 12, "timestamp")
    modified: bytes = raw(92, 12, "timestamp")
    created: bytes = raw(104, 12, "timestamp")
    changed: bytes = raw(116, 12, "timestamp")
    checkpoint: int = u32(128, "")
    reserved: int = u32(132, "")
    attribute_icb: bytes = raw(136, 16, "LongAd")
    stream_icb: bytes = raw(152, 16, "LongAd")
    implementation: bytes = raw(168, 32, "entity")
    unique_id: int = u64(200, "")
    attributes_length: int = u32(208, "bytes")
    descriptors_length: int = u32(212, "bytes of allocation descriptors")


@record(size=38)
class FileIdentifier(Record):
    """ECMA-167 4/14.4, up to the implementation use."""

    tag: bytes = raw(0, 16, "Tag")
    version: int = u16(16, "", default=1)
    characteristics: int = u8(18, "FID_ bits")
    name_length: int = u8(19, "bytes")
    icb: bytes = raw(20, 16, "LongAd of the file entry")
    use_length: int = u16(36, "bytes of implementation use", default=0)


@record(size=16)
class LongAd(Record):
    """Long allocation descriptor, ECMA-167 4/14.14.2."""

    length: int = u32(0, "bits 30-31 type, the rest bytes")
    block: int = u32(4, "logical block in the partition")
    partition: int = u16(8, "partition reference", default=0)
    use: bytes = raw(10, 6, "implementation use", default=bytes(6))


@record(size=8)
class ShortAd(Record):
    """Short allocation descriptor, ECMA-167 4/14.14.1; also extent_ad, 3/7.1."""

    length: int = u32(0, "bits 30-31 type, the rest bytes")
    block: int = u32(4, "logical block in the partition (extent_ad: sector of the disc)")


def tag_is_good(data: bytes, identifier: int, location: int | None) -> bool:
    """Tell whether `data` starts with an undamaged tag of this identifier, at this location when one is given."""
    if len(data) < Tag.SIZE:
        return False
    tag = Tag.unpack(data)
    checksum = (sum(data[:16]) - tag.checksum) % 256
    body = data[16 : 16 + tag.crc_length]
    return (
        tag.identifier == identifier
        and tag.checksum == checksum
        and len(body) == tag.crc_length
        and binascii.crc_hqx(body, 0) == tag.crc
        and (location is None or tag.location == location)
    )


def with_tag(identifier: int, location: int, descriptor: bytes) -> bytes:
    """Return `descriptor` with its first 16 bytes replaced by a correct tag."""
    body = descriptor[16:]
    crc = binascii.crc_hqx(body, 0)
    bare = Tag(identifier=identifier, location=location, crc=crc, crc_length=len(body)).pack()
    return (
        Tag(identifier=identifier, location=location, crc=crc, crc_length=len(body), checksum=sum(bare) % 256).pack()
        + body
    )


def text_of(data: bytes) -> str:
    """Decode OSTA compressed unicode (UDF 2.1.1): a first byte of 8 or 16 names the bits a character has."""
    if not data:
        return ""
    if data[0] == 8:
        return data[1:].decode("latin-1")
    return data[1 : 1 + (len(data) - 1) // 2 * 2].decode("utf-16-be", "surrogatepass")


def compressed(text: str) -> bytes:
    """Encode OSTA compressed unicode, in 8 bits where that holds the text."""
    try:
        return b"\x08" + text.encode("latin-1")
    except UnicodeEncodeError:
        return b"\x10" + text.encode("utf-16-be", "surrogatepass")


def time_of(data: bytes) -> datetime:
    """Return a timestamp (ECMA-167 1/7.3) as the wall-clock time recorded; EPOCH when it is not a time."""
    year = int.from_bytes(data[2:4], "little")
    month, day, hour, minute, second = data[4:9]
    try:
        return datetime(year, month, day, hour, minute, second)
    except ValueError:
        return EPOCH


def timestamp(moment: datetime) -> bytes:
    """Return a timestamp of local time whose zone is not stated (offset -2047)."""
    head = (0x1000 | 0x801).to_bytes(2, "little") + moment.year.to_bytes(2, "little")
    return head + bytes((moment.month, moment.day, moment.hour, moment.minute, moment.second, 0, 0, 0))
