"""HFS Plus structures (TN1150). All numbers are big-endian; blocks are allocation blocks."""

from __future__ import annotations

from datetime import datetime, timedelta

from ...common.record import Record, raw, record, u8, u16, u32, u64

HEADER_OFFSET = 1024
"""Bytes from the volume's start to its header; the alternate lies as many before its end (TN1150, "Volume Header")."""
SIGNATURE_PLUS, SIGNATURE_X = b"H+", b"HX"
VERSION_PLUS, VERSION_X = 4, 5
LAST_MOUNTED = b"10.0"
UNMOUNTED, INCONSISTENT, JOURNALED = 1 << 8, 1 << 11, 1 << 13
"""Bits of the volume's attributes: left clean, left with damage, has a journal."""

# Catalog node IDs (TN1150, "Catalog File")
ROOT_PARENT, ROOT, EXTENTS_FILE, CATALOG_FILE, ALLOCATION_FILE, ATTRIBUTES_FILE = 1, 2, 3, 4, 6, 8
FIRST_USER = 16

FOLDER_RECORD, FILE_RECORD, FOLDER_THREAD, FILE_THREAD = 1, 2, 3, 4
HAS_THREAD, HAS_ATTRIBUTES = 1 << 1, 1 << 2
HAS_SECURITY, HAS_FOLDER_COUNT = 1 << 3, 1 << 4
"""Bits of records that the vendor's open system has beside those of TN1150 (hfs_format.h)."""
SECURITY = "com.apple.system.Security"
"""The attribute with an access control list: systems look at it where HAS_SECURITY says that it is there."""
"""Bits of a catalog record's flags."""

FORMAT_FOLDER, FORMAT_FILE, FORMAT_LINK = 0o040000, 0o100000, 0o120000
FORMAT_BITS, PERMISSION_BITS = 0o170000, 0o007777

LINK_TYPE, LINK_CREATOR = b"hlnk", b"hfs+"
SYMLINK_TYPE, SYMLINK_CREATOR = b"slnk", b"rhap"
LINKED_FILES = "\0\0\0\0HFS+ Private Data"
"""The folder in the root that holds files with several names (TN1150, "Hard Links")."""
LINKED_FOLDERS = ".HFS+ Private Directory Data\r"
"""The same for folders, a later addition."""
LINKED_FILE, LINKED_FOLDER = "iNode", "dir_"
"""The name of what such a folder holds, its number behind it."""
FINDER_LINK_TO_FOLDER = b"fdrpMACS"
"""Type and creator of a hard link to a folder."""

CUSTOM_ICON = 0x0400
"""Bit of the Finder's flags."""

LEAF_NODE, INDEX_NODE, HEADER_NODE, MAP_NODE = 0xFF, 0, 1, 2
"""Kinds of B-tree node, kind being a signed byte (TN1150, "Node Descriptor")."""
BIG_KEYS, VARIABLE_INDEX_KEYS = 1 << 1, 1 << 2
COMPARE_FOLDED, COMPARE_BINARY = 0xCF, 0xBC

CATALOG_KEY_MOST, EXTENT_KEY_LENGTH, ATTRIBUTE_KEY_MOST = 516, 10, 266
NAME_MOST = 255
"""UTF-16 units of a file's name."""
ATTRIBUTE_NAME_MOST = 127
EXTENTS_IN_FORK = 8
JOURNAL_MAGIC = 0x4A4E_4C78
INLINE_ATTRIBUTE, FORK_ATTRIBUTE = 0x10, 0x20
DATA_FORK, RESOURCE_FORK = 0x00, 0xFF

_EPOCH = datetime(1904, 1, 1)


def mac_time(moment: datetime) -> int:
    """Return seconds since 1904 as the volume stores them; moments out of reach become the nearest that is."""
    return min(max(int((moment - _EPOCH).total_seconds()), 0), 0xFFFF_FFFF)


def moment_of(seconds: int) -> datetime:
    """Return the moment that a stored date stands for, UTC."""
    return _EPOCH + timedelta(seconds=seconds)


@record(size=8, big_endian=True)
class ExtentDescriptor(Record):
    """TN1150, "Fork Data Structure"."""

    startBlock: int = u32(0, "first block")
    blockCount: int = u32(4, "blocks; 0 ends the list")


@record(size=80, big_endian=True)
class ForkData(Record):
    """TN1150, "Fork Data Structure"."""

    logicalSize: int = u64(0, "bytes", default=0)
    clumpSize: int = u32(8, "bytes to grow by; in catalog records bytes read since, or 0", default=0)
    totalBlocks: int = u32(12, "blocks", default=0)
    extents: bytes = raw(16, 64, "eight ExtentDescriptors", default=bytes(64))


@record(size=512, big_endian=True)
class VolumeHeader(Record):
    """TN1150, "Volume Header"."""

    signature: bytes = raw(0, 2, "'H+', 'HX' for HFSX")
    version: int = u16(2, "4, 5 for HFSX")
    attributes: int = u32(4, "bits")
    lastMountedVersion: bytes = raw(8, 4, "who mounted it last to write", default=LAST_MOUNTED)
    journalInfoBlock: int = u32(12, "block", default=0)
    createDate: int = u32(16, "local time")
    modifyDate: int = u32(20, "UTC")
    backupDate: int = u32(24, "UTC", default=0)
    checkedDate: int = u32(28, "UTC")
    fileCount: int = u32(32, "files, those of the volume's own left out")
    folderCount: int = u32(36, "folders, the root left out")
    blockSize: int = u32(40, "bytes, a power of two from 512 on")
    totalBlocks: int = u32(44, "blocks")
    freeBlocks: int = u32(48, "blocks")
    nextAllocation: int = u32(52, "block where to look for room first")
    rsrcClumpSize: int = u32(56, "bytes")
    dataClumpSize: int = u32(60, "bytes")
    nextCatalogID: int = u32(64, "the next unused one")
    writeCount: int = u32(68, "times it was mounted to write")
    encodingsBitmap: int = u64(72, "encodings used in names", default=1)
    finderInfo: bytes = raw(80, 32, "FinderInfo")
    allocationFile: bytes = raw(112, 80, "ForkData")
    extentsFile: bytes = raw(192, 80, "ForkData")
    catalogFile: bytes = raw(272, 80, "ForkData")
    attributesFile: bytes = raw(352, 80, "ForkData")
    startupFile: bytes = raw(432, 80, "ForkData", default=bytes(80))


@record(size=32, big_endian=True)
class FinderInfo(Record):
    """The header's finderInfo, TN1150, "Volume Header". Words 0 and 1 are what firmware goes by in practice."""

    blessed_folder: int = u32(0, "catalog ID of the folder that holds the loader", default=0)
    blessed_file: int = u32(4, "catalog ID of the loader", default=0)
    open_folder: int = u32(8, "catalog ID of a folder to show", default=0)
    old_system_folder: int = u32(12, "catalog ID of the system folder of Mac OS 8 or 9", default=0)
    reserved: int = u32(16, "", default=0)
    system_folder: int = u32(20, "catalog ID of the system folder of Mac OS X", default=0)
    volume_id: int = u64(24, "unique", default=0)


@record(size=52, big_endian=True)
class JournalInfo(Record):
    """TN1150, "Journal Info Block"; reserved bytes follow."""

    flags: int = u32(0, "1: the journal is on this volume, 2: elsewhere")
    device_signature: bytes = raw(4, 32, "of the other device")
    offset: int = u64(36, "bytes from the volume's start")
    size: int = u64(44, "bytes")


@record(size=24)
class JournalHeader(Record):
    """TN1150, "Journal Header", in the byte order of the machine that wrote it (here little-endian)."""

    magic: int = u32(0, "4A4E4C78h")
    endian: int = u32(4, "12345678h")
    start: int = u64(8, "bytes: the first transaction")
    end: int = u64(16, "bytes: behind the last one; the same when there is none")


@record(size=14, big_endian=True)
class NodeDescriptor(Record):
    """TN1150, "Node Descriptor"."""

    fLink: int = u32(0, "the next node of its kind")
    bLink: int = u32(4, "the one before")
    kind: int = u8(8, "signed: -1 leaf, 0 index, 1 header, 2 map")
    height: int = u8(9, "1 of a leaf")
    numRecords: int = u16(10, "records")
    reserved: int = u16(12, "", default=0)


@record(size=106, big_endian=True)
class TreeHeader(Record):
    """TN1150, "Header Record"."""

    treeDepth: int = u16(0, "levels")
    rootNode: int = u32(2, "node")
    leafRecords: int = u32(6, "records in all leaves")
    firstLeafNode: int = u32(10, "node")
    lastLeafNode: int = u32(14, "node")
    nodeSize: int = u16(18, "bytes")
    maxKeyLength: int = u16(20, "bytes")
    totalNodes: int = u32(22, "nodes, used or not")
    freeNodes: int = u32(26, "nodes")
    reserved1: int = u16(30, "", default=0)
    clumpSize: int = u32(32, "bytes")
    btreeType: int = u8(36, "0: a tree of the volume's own", default=0)
    keyCompareType: int = u8(37, "of the catalog: how names are compared", default=0)
    attributes: int = u32(38, "bits")
    reserved3: bytes = raw(42, 64, "", default=bytes(64))


@record(size=16, big_endian=True)
class Permissions(Record):
    """HFSPlusBSDInfo, TN1150, "HFS Plus Permissions"."""

    ownerID: int = u32(0, "", default=0)
    groupID: int = u32(4, "", default=0)
    adminFlags: int = u8(8, "flags that only the superuser changes", default=0)
    ownerFlags: int = u8(9, "flags of the owner", default=0)
    fileMode: int = u16(10, "kind and permissions as in stat(2)", default=0)
    special: int = u32(12, "of a hard link its iNode's number, of an iNode its count of links", default=0)


@record(size=88, big_endian=True)
class CatalogFolder(Record):
    """TN1150, "Catalog Folder Records"."""

    recordType: int = u16(0, "1", default=FOLDER_RECORD)
    flags: int = u16(2, "bits", default=0)
    valence: int = u32(4, "entries")
    folderID: int = u32(8, "")
    createDate: int = u32(12, "UTC")
    contentModDate: int = u32(16, "UTC")
    attributeModDate: int = u32(20, "UTC")
    accessDate: int = u32(24, "UTC")
    backupDate: int = u32(28, "UTC", default=0)
    permissions: bytes = raw(32, 16, "Permissions")
    finderInfo: bytes = raw(48, 32, "userInfo and finderInfo", default=bytes(32))
    textEncoding: int = u32(80, "", default=0)
    folderCount: int = u32(84, "folders among the entries, where HAS_FOLDER_COUNT is set", default=0)


@record(size=248, big_endian=True)
class CatalogFile(Record):
    """TN1150, "Catalog File Records"."""

    recordType: int = u16(0, "2", default=FILE_RECORD)
    flags: int = u16(2, "bits")
    reserved1: int = u32(4, "", default=0)
    fileID: int = u32(8, "")
    createDate: int = u32(12, "UTC")
    contentModDate: int = u32(16, "UTC")
    attributeModDate: int = u32(20, "UTC")
    accessDate: int = u32(24, "UTC")
    backupDate: int = u32(28, "UTC", default=0)
    permissions: bytes = raw(32, 16, "Permissions")
    finderInfo: bytes = raw(48, 32, "userInfo and finderInfo", default=bytes(32))
    textEncoding: int = u32(80, "", default=0)
    reserved2: int = u32(84, "", default=0)
    dataFork: bytes = raw(88, 80, "ForkData", default=bytes(80))
    resourceFork: bytes = raw(168, 80, "ForkData", default=bytes(80))


@record(size=8, big_endian=True)
class CatalogThread(Record):
    """TN1150, "Catalog Thread Records"; the name follows."""

    recordType: int = u16(0, "3 of a folder, 4 of a file")
    reserved: int = u16(2, "", default=0)
    parentID: int = u32(4, "")


@record(size=12, big_endian=True)
class ExtentKey(Record):
    """TN1150, "Extents Overflow File"."""

    keyLength: int = u16(0, "10", default=EXTENT_KEY_LENGTH)
    forkType: int = u8(2, "0 data, 255 resource")
    pad: int = u8(3, "", default=0)
    fileID: int = u32(4, "")
    startBlock: int = u32(8, "the fork's block that the first extent begins with")


@record(size=14, big_endian=True)
class AttributeKey(Record):
    """TN1150, "Attributes File", with the key as systems since 10.4 write it; the name's units follow."""

    keyLength: int = u16(0, "bytes behind it")
    pad: int = u16(2, "", default=0)
    fileID: int = u32(4, "")
    startBlock: int = u32(8, "", default=0)
    attrNameLen: int = u16(12, "units")


@record(size=16, big_endian=True)
class InlineAttribute(Record):
    """TN1150, "Inline Data Attributes", as systems since 10.4 write it; the bytes follow, filled to an even count."""

    recordType: int = u32(0, "10h", default=INLINE_ATTRIBUTE)
    reserved1: int = u32(4, "", default=0)
    reserved2: int = u32(8, "", default=0)
    attrSize: int = u32(12, "bytes")


@record(size=88, big_endian=True)
class ForkAttribute(Record):
    """TN1150, "Fork Data Attributes"."""

    recordType: int = u32(0, "20h", default=FORK_ATTRIBUTE)
    reserved: int = u32(4, "", default=0)
    theFork: bytes = raw(8, 80, "ForkData")
