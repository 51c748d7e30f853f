"""NTFS's on-disk structures, version 3.1, little endian, offsets in bytes.

Names follow the vendor's published descriptions (Windows driver documentation, "Master File Table":
MULTI_SECTOR_HEADER, FILE_RECORD_SEGMENT_HEADER, ATTRIBUTE_RECORD_HEADER, FILE_NAME, STANDARD_INFORMATION,
ATTRIBUTE_LIST_ENTRY); structures that those leave out follow what systems write, and carry no clause.
"""

from __future__ import annotations

from ...common.record import Record, raw, record, u8, u16, u32, u64, unsigned

STRIDE = 512
"""Bytes that each number of an update sequence guards, whatever the sector size (MULTI_SECTOR_HEADER)."""
INDEX_BLOCK_SIZE = 4096
BOOT_FILE_SIZE = 8192
"""Bytes of $Boot: the boot sector and what it loads."""

# -- file numbers of the volume's own files --------------------------------------------------------------------------
MFT, MFT_MIRROR, LOG_FILE, VOLUME, ATTR_DEF, ROOT, BITMAP_FILE, BOOT = range(8)
BAD_CLUSTERS, SECURE, UPCASE, EXTEND = range(8, 12)
FIRST_UNUSED, FIRST_FREE = 12, 16
"""12 to 15 are in use and hold nothing; 16 to 23 are free and stay so."""
QUOTA, OBJECT_IDS, REPARSE_POINTS = 24, 25, 26
FIRST_USER = 27

# -- attribute type codes --------------------------------------------------------------------------------------------
STANDARD_INFORMATION, ATTRIBUTE_LIST, FILE_NAME, OBJECT_ID, SECURITY_DESCRIPTOR = 0x10, 0x20, 0x30, 0x40, 0x50
VOLUME_NAME, VOLUME_INFORMATION, DATA, INDEX_ROOT, INDEX_ALLOCATION, BITMAP = 0x60, 0x70, 0x80, 0x90, 0xA0, 0xB0
REPARSE_POINT, EA_INFORMATION, EA, LOGGED_UTILITY_STREAM = 0xC0, 0xD0, 0xE0, 0x100
END_OF_ATTRIBUTES = 0xFFFF_FFFF

# -- flags -----------------------------------------------------------------------------------------------------------
RECORD_IN_USE, RECORD_IS_FOLDER, RECORD_IN_EXTEND, RECORD_HAS_VIEW_INDEX = 1, 2, 4, 8
RESIDENT, NONRESIDENT = 0, 1
INDEXED = 1
"""Resident attributes that are in an index as well ($FILE_NAME)."""
ATTRIBUTE_COMPRESSED, ATTRIBUTE_ENCRYPTED, ATTRIBUTE_SPARSE = 0x00FF, 0x4000, 0x8000
HIDDEN, SYSTEM, ARCHIVE, SPARSE_FILE, REPARSE_FILE = 0x02, 0x04, 0x20, 0x200, 0x400
CARRIED = 0x3127
"""Attributes that a file keeps when it is copied: read-only, hidden, system, archive, temporary, offline, not indexed.

The others say how its bytes are stored, or are derived (MS-FSCC 2.6).
"""
FOLDER_NAME, VIEW_INDEX_NAME = 0x1000_0000, 0x2000_0000
"""In FILE_NAME only: the file has an index of names, or another one."""
NAME_POSIX, NAME_LONG, NAME_SHORT, NAME_BOTH = range(4)
ENTRY_HAS_CHILD, ENTRY_IS_LAST = 1, 2
NODE_HAS_CHILDREN = 1
COLLATE_FILE_NAME, COLLATE_NUMBER, COLLATE_SECURITY_ID, COLLATE_SECURITY_HASH, COLLATE_NUMBERS = (
    1,
    0x10,
    0x11,
    0x12,
    0x13,
)
VOLUME_IS_DIRTY = 1
REFERENCE_NUMBER = (1 << 48) - 1
"""A file reference: the record's number below, its sequence number in the upper 16 bits (MFT_SEGMENT_REFERENCE)."""


def reference(number: int, sequence: int) -> int:
    """Return the file reference of a record."""
    return number | sequence << 48


@record(size=512)
class BootSector(Record):
    """First sector of the volume, and its copy in the partition's last one."""

    jump: bytes = raw(0x00, 3, "jump to the code", default=b"\xeb\x52\x90")
    oem: bytes = raw(0x03, 8, "NTFS and blanks: what systems know it by", default=b"NTFS    ")
    bytes_per_sector: int = u16(0x0B, "512, 1024, 2048, 4096")
    sectors_per_cluster: int = u8(0x0D, "a power of two up to 128; above 80h minus its exponent of two")
    reserved_sectors: int = u16(0x0E, "0", default=0)
    zero: bytes = raw(0x10, 5, "0", default=bytes(5))
    media: int = u8(0x15, "F8h = fixed", default=0xF8)
    zero_2: int = u16(0x16, "0", default=0)
    sectors_per_track: int = u16(0x18, "geometry for INT 13h", default=63)
    heads: int = u16(0x1A, "geometry for INT 13h", default=255)
    hidden_sectors: int = u32(0x1C, "first sector of the partition on the drive")
    zero_3: int = u32(0x20, "0", default=0)
    drive: bytes = raw(0x24, 4, "80h and the extended signature", default=b"\x80\0\x80\0")
    total_sectors: int = u64(0x28, "sectors of the partition less one: the last holds the copy of this one")
    mft_cluster: int = u64(0x30, "first cluster of $MFT")
    mft_mirror_cluster: int = u64(0x38, "first cluster of $MFTMirr")
    clusters_per_record: int = u8(0x40, "clusters of a file record; above 80h minus the exponent of two of its bytes")
    zero_4: bytes = raw(0x41, 3, "0", default=bytes(3))
    clusters_per_index_block: int = u8(0x44, "the same for index blocks")
    zero_5: bytes = raw(0x45, 3, "0", default=bytes(3))
    serial: int = u64(0x48, "volume serial number")
    checksum: int = u32(0x50, "not used", default=0)
    code: bytes = raw(0x54, 426, "boot code", default=bytes(426))
    signature: int = u16(0x1FE, "AA55h", default=0xAA55)


@record(size=48)
class FileRecordHeader(Record):
    """FILE_RECORD_SEGMENT_HEADER; the update sequence follows."""

    signature: bytes = raw(0x00, 4, "FILE", default=b"FILE")
    sequence_offset: int = u16(0x04, "bytes from the record's start to the update sequence", default=0x30)
    sequence_count: int = u16(0x06, "numbers of the update sequence: its own, and one per stride")
    log_number: int = u64(0x08, "number in $LogFile", default=0)
    sequence_number: int = u16(0x10, "how often the record was used for a file")
    link_count: int = u16(0x12, "names")
    first_attribute: int = u16(0x14, "bytes from the record's start")
    flags: int = u16(0x16, "RECORD_ bits")
    used: int = u32(0x18, "bytes in use, a multiple of 8")
    allocated: int = u32(0x1C, "bytes of the record")
    base: int = u64(0x20, "file reference of the record that this one extends; 0 when it is a base itself", default=0)
    next_instance: int = u16(0x28, "next attribute's instance")
    padding: int = u16(0x2A, "0", default=0)
    number: int = u32(0x2C, "this record's number")


@record(size=16)
class AttributeHeader(Record):
    """ATTRIBUTE_RECORD_HEADER, as far as all attributes have it."""

    type: int = u32(0x00, "type code")
    length: int = u32(0x04, "bytes of the whole attribute, a multiple of 8")
    form: int = u8(0x08, "0 = resident, 1 = non-resident")
    name_length: int = u8(0x09, "UTF-16 units")
    name_offset: int = u16(0x0A, "bytes from the attribute's start")
    flags: int = u16(0x0C, "ATTRIBUTE_ bits")
    instance: int = u16(0x0E, "unique within the record")


@record(size=8)
class ResidentForm(Record):
    """What follows the header of a resident attribute (ATTRIBUTE_RECORD_HEADER, Form.Resident)."""

    value_length: int = u32(0x00, "bytes")
    value_offset: int = u16(0x04, "bytes from the attribute's start")
    indexed: int = u8(0x06, "1: it is in an index as well")
    padding: int = u8(0x07, "0", default=0)


@record(size=48)
class NonresidentForm(Record):
    """What follows the header of a non-resident attribute (ATTRIBUTE_RECORD_HEADER, Form.Nonresident)."""

    lowest_vcn: int = u64(0x00, "first cluster of the stream that this attribute maps")
    highest_vcn: int = u64(0x08, "last one; all bits set when it maps none")
    mapping_offset: int = u16(0x10, "bytes from the attribute's start to the mapping pairs")
    compression_unit: int = u8(0x12, "exponent of two of clusters; 0 = none", default=0)
    padding: bytes = raw(0x13, 5, "0", default=bytes(5))
    allocated: int = u64(0x18, "bytes of the clusters that the stream spans")
    size: int = u64(0x20, "bytes of the stream")
    valid: int = u64(0x28, "bytes that were written; what follows reads as zeros")


@record(size=72)
class StandardInformation(Record):
    """STANDARD_INFORMATION, version 3."""

    created: int = u64(0x00, "100 ns since 1601")
    modified: int = u64(0x08, "the same")
    record_changed: int = u64(0x10, "the same")
    accessed: int = u64(0x18, "the same")
    attributes: int = u32(0x20, "HIDDEN and so on")
    versions: int = u32(0x24, "0", default=0)
    version: int = u32(0x28, "0", default=0)
    class_id: int = u32(0x2C, "0", default=0)
    owner: int = u32(0x30, "of a quota; 0 = none", default=0)
    security: int = u32(0x34, "number of the descriptor in $Secure")
    quota: int = u64(0x38, "bytes counted for the owner", default=0)
    journal: int = u64(0x40, "number in the change journal", default=0)


@record(size=66)
class FileName(Record):
    """FILE_NAME; the name follows. It is in the file's record and in the index of the folder."""

    parent: int = u64(0x00, "file reference of the folder")
    created: int = u64(0x08, "100 ns since 1601")
    modified: int = u64(0x10, "the same")
    record_changed: int = u64(0x18, "the same")
    accessed: int = u64(0x20, "the same")
    allocated: int = u64(0x28, "bytes of the unnamed stream's clusters")
    size: int = u64(0x30, "bytes of the unnamed stream")
    attributes: int = u32(0x38, "HIDDEN and so on, FOLDER_NAME")
    reparse_tag: int = u32(0x3C, "of a reparse point, else 0", default=0)
    name_length: int = u8(0x40, "UTF-16 units")
    namespace: int = u8(0x41, "NAME_ number")


@record(size=26)
class AttributeListEntry(Record):
    """ATTRIBUTE_LIST_ENTRY; the attribute's name follows."""

    type: int = u32(0x00, "type code")
    length: int = u16(0x04, "bytes of this entry, a multiple of 8")
    name_length: int = u8(0x06, "UTF-16 units")
    name_offset: int = u8(0x07, "bytes from the entry's start", default=26)
    lowest_vcn: int = u64(0x08, "of the part of the attribute that is meant", default=0)
    segment: int = u64(0x10, "file reference of the record that holds it")
    instance: int = u16(0x18, "its instance there")


@record(size=16)
class IndexRoot(Record):
    """Start of $INDEX_ROOT; an IndexHeader follows."""

    indexed_type: int = u32(0x00, "FILE_NAME, or 0 for other keys")
    collation: int = u32(0x04, "COLLATE_ number")
    block_size: int = u32(0x08, "bytes of an index block", default=INDEX_BLOCK_SIZE)
    clusters_per_block: int = u8(0x0C, "VCNs a block spans")
    padding: bytes = raw(0x0D, 3, "0", default=bytes(3))


@record(size=16)
class IndexHeader(Record):
    """In front of a node's entries; its offsets count from its own start."""

    first_entry: int = u32(0x00, "bytes")
    used: int = u32(0x04, "bytes up to the end of the entries")
    allocated: int = u32(0x08, "bytes up to the end of their room")
    flags: int = u32(0x0C, "1: entries have children")


@record(size=24)
class IndexBlockHeader(Record):
    """Start of an index block in $INDEX_ALLOCATION; IndexHeader and update sequence follow."""

    signature: bytes = raw(0x00, 4, "INDX", default=b"INDX")
    sequence_offset: int = u16(0x04, "bytes to the update sequence", default=0x28)
    sequence_count: int = u16(0x06, "numbers of the update sequence", default=INDEX_BLOCK_SIZE // STRIDE + 1)
    log_number: int = u64(0x08, "number in $LogFile", default=0)
    vcn: int = u64(0x10, "where this block is in the stream")


@record(size=16)
class FolderEntryHeader(Record):
    """Start of an entry of a $FILE_NAME index; the FileName follows, and the child's VCN ends it."""

    file: int = u64(0x00, "file reference; 0 in the last entry")
    length: int = u16(0x08, "bytes of this entry, a multiple of 8")
    key_length: int = u16(0x0A, "bytes of the FileName; 0 in the last entry")
    flags: int = u16(0x0C, "ENTRY_ bits")
    padding: int = u16(0x0E, "0", default=0)


@record(size=16)
class ViewEntryHeader(Record):
    """Start of an entry of any other index; key and data follow."""

    data_offset: int = u16(0x00, "bytes from the entry's start")
    data_length: int = u16(0x02, "bytes")
    padding: int = u32(0x04, "0", default=0)
    length: int = u16(0x08, "bytes of this entry, a multiple of 8")
    key_length: int = u16(0x0A, "bytes")
    flags: int = u16(0x0C, "ENTRY_ bits")
    padding_2: int = u16(0x0E, "0", default=0)


@record(size=12)
class VolumeInformation(Record):
    """$VOLUME_INFORMATION."""

    zero: int = u64(0x00, "0", default=0)
    major: int = u8(0x08, "3", default=3)
    minor: int = u8(0x09, "1", default=1)
    flags: int = u16(0x0A, "1: dirty", default=0)


@record(size=160)
class AttributeDefinition(Record):
    """A line of $AttrDef."""

    name: bytes = raw(0x00, 128, "UTF-16, padded with zeros")
    type: int = u32(0x80, "type code")
    display_rule: int = u32(0x84, "0", default=0)
    collation: int = u32(0x88, "COLLATE_ number", default=0)
    flags: int = u32(0x8C, "02h indexed, 40h always resident, 80h may be non-resident")
    smallest: int = u64(0x90, "bytes")
    largest: int = u64(0x98, "bytes; all bits set = any")


@record(size=20)
class SecurityEntry(Record):
    """In front of a descriptor in $Secure:$SDS, and the data of its two indexes."""

    hash: int = u32(0x00, "of the descriptor")
    number: int = u32(0x04, "security id")
    offset: int = u64(0x08, "bytes from the stream's start")
    length: int = u32(0x10, "bytes of this entry and the descriptor")


@record(size=48)
class QuotaEntry(Record):
    """Data of $Quota:$Q, without an owner."""

    version: int = u32(0x00, "2", default=2)
    flags: int = u32(0x04, "1: the limits are the volume's usual ones", default=1)
    used: int = u64(0x08, "bytes", default=0)
    changed: int = u64(0x10, "100 ns since 1601")
    warn_at: int = u64(0x18, "bytes; all bits set = never", default=(1 << 64) - 1)
    limit: int = u64(0x20, "bytes; all bits set = none", default=(1 << 64) - 1)
    exceeded: int = u64(0x28, "100 ns", default=0)


@record(size=12)
class ReparseKey(Record):
    """Key of $Reparse:$R."""

    tag: int = u32(0x00, "of the reparse point")
    file: int = unsigned(0x04, 8, "file reference")
