"""ISO 9660 structures, declared as in ECMA-119. Numbers appear twice, little and big endian; the first is read."""

from __future__ import annotations

from ..common.record import Record, big_endian, raw, record, u8, u16, u32

SECTOR = 2048
PRIMARY, SUPPLEMENTARY, TERMINATOR = 1, 2, 255
IDENTIFIER = b"CD001"
FLAG_FOLDER, FLAG_ASSOCIATED, FLAG_GOES_ON = 0x02, 0x04, 0x80


@record(size=2048)
class VolumeDescriptor(Record):
    """Primary or supplementary volume descriptor, ECMA-119 8.4 and 8.5."""

    type: int = u8(0, "1 primary, 2 supplementary, 255 end of the set")
    identifier: bytes = raw(1, 5, "CD001", default=IDENTIFIER)
    version: int = u8(6, "1", default=1)
    flags: int = u8(7, "", default=0)
    system: bytes = raw(8, 32, "", default=b" " * 32)
    volume: bytes = raw(40, 32, "volume label", default=b" " * 32)
    unused: bytes = raw(72, 8, "zero", default=bytes(8))
    sectors: int = u32(80, "sectors of the volume", default=0)
    sectors_be: int = big_endian(84, 4, "the same", default=0)
    escapes: bytes = raw(88, 32, "escape sequences: which characters names use", default=bytes(32))
    set_size: bytes = raw(120, 4, "", default=b"\x01\0\0\x01")
    sequence: bytes = raw(124, 4, "", default=b"\x01\0\0\x01")
    block_size: int = u16(128, "bytes", default=SECTOR)
    block_size_be: int = big_endian(130, 2, "the same", default=SECTOR)
    path_table_size: int = u32(132, "bytes", default=0)
    path_table_size_be: int = big_endian(136, 4, "the same", default=0)
    path_table: int = u32(140, "block of the little-endian path table", default=0)
    path_table_copy: int = u32(144, "", default=0)
    path_table_be: int = big_endian(148, 4, "block of the big-endian path table", default=0)
    path_table_be_copy: int = big_endian(152, 4, "", default=0)
    root: bytes = raw(156, 34, "directory record of the root", default=bytes(34))
    names: bytes = raw(190, 623, "set, publisher, preparer, application, files", default=b" " * 623)
    times: bytes = raw(813, 68, "four times", default=(b"0" * 16 + b"\0") * 4)
    structure: int = u8(881, "1", default=1)
    rest: bytes = raw(882, 1166, "", default=bytes(1166))


@record(size=33)
class DirectoryRecord(Record):
    """ECMA-119 9.1, up to the identifier."""

    length: int = u8(0, "bytes of this record")
    attribute_length: int = u8(1, "blocks of extended attributes in front of the data", default=0)
    extent: int = u32(2, "block of the data")
    extent_be: int = big_endian(6, 4, "the same", default=0)
    size: int = u32(10, "bytes")
    size_be: int = big_endian(14, 4, "the same", default=0)
    recorded: bytes = raw(18, 7, "years since 1900, month, day, hour, minute, second, zone", default=bytes(7))
    flags: int = u8(25, "FLAG_ bits", default=0)
    unit_size: int = u8(26, "interleaving, 0 on disc images", default=0)
    gap: int = u8(27, "interleaving", default=0)
    volume: bytes = raw(28, 4, "volume sequence number", default=b"\x01\0\0\x01")
    name_length: int = u8(32, "bytes")
