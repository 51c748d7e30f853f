"""What Windows answers to control calls about drives (winioctl.h, ntddstor.h, ntdddisk.h), all little endian."""

from __future__ import annotations

from ...common.record import Record, raw, record, u8, u32, u64

IOCTL_STORAGE_CHECK_VERIFY2 = 0x002D_0800
IOCTL_STORAGE_MEDIA_REMOVAL = 0x002D_4804
IOCTL_DISK_GET_LENGTH_INFO = 0x0007_405C
IOCTL_STORAGE_GET_DEVICE_NUMBER = 0x002D_1080
IOCTL_STORAGE_QUERY_PROPERTY = 0x002D_1400
IOCTL_STORAGE_EJECT_MEDIA = 0x002D_4808
IOCTL_DISK_GET_DRIVE_GEOMETRY_EX = 0x0007_00A0
IOCTL_DISK_IS_WRITABLE = 0x0007_0024
IOCTL_DISK_GET_DRIVE_LAYOUT_EX = 0x0007_0050
IOCTL_DISK_UPDATE_PROPERTIES = 0x0007_0140
IOCTL_VOLUME_GET_VOLUME_DISK_EXTENTS = 0x0056_0000
FSCTL_LOCK_VOLUME = 0x0009_0018
FSCTL_DISMOUNT_VOLUME = 0x0009_0020

DEVICE_TYPE_CD_ROM = 2
"""FILE_DEVICE_CD_ROM: what STORAGE_DEVICE_NUMBER says of an optical drive."""

BUSES = {
    1: "SCSI",
    2: "ATAPI",
    3: "ATA",
    4: "FireWire",
    7: "USB",
    8: "RAID",
    10: "SAS",
    11: "SATA",
    12: "SD card",
    13: "MMC",
    14: "virtual",
    15: "disk image",
    16: "storage space",
    17: "NVMe",
}
"""STORAGE_BUS_TYPE."""


@record(size=12)
class StoragePropertyQuery(Record):
    """STORAGE_PROPERTY_QUERY: what is asked with IOCTL_STORAGE_QUERY_PROPERTY."""

    property_id: int = u32(0, "0 device, 6 access alignment")
    query_type: int = u32(4, "0 = the property itself", default=0)
    additional: bytes = raw(8, 4, "none", default=bytes(4))


@record(size=36)
class StorageDeviceDescriptor(Record):
    """STORAGE_DEVICE_DESCRIPTOR; the texts it points to follow within `size`, ended by a zero byte."""

    version: int = u32(0, "bytes of this structure")
    size: int = u32(4, "bytes with everything that follows")
    device_type: int = u8(8, "SCSI device type")
    device_type_modifier: int = u8(9, "")
    removable_media: int = u8(10, "not 0: the medium can be taken out")
    command_queueing: int = u8(11, "")
    vendor_id_offset: int = u32(12, "bytes from the start; 0 = none")
    product_id_offset: int = u32(16, "bytes from the start; 0 = none")
    product_revision_offset: int = u32(20, "bytes from the start; 0 = none")
    serial_number_offset: int = u32(24, "bytes from the start; 0 = none")
    bus_type: int = u32(28, "STORAGE_BUS_TYPE")
    raw_properties_length: int = u32(32, "bytes")


@record(size=28)
class StorageAccessAlignmentDescriptor(Record):
    """STORAGE_ACCESS_ALIGNMENT_DESCRIPTOR."""

    version: int = u32(0, "")
    size: int = u32(4, "bytes")
    bytes_per_cache_line: int = u32(8, "")
    bytes_offset_for_cache_alignment: int = u32(12, "")
    bytes_per_logical_sector: int = u32(16, "")
    bytes_per_physical_sector: int = u32(20, "")
    bytes_offset_for_sector_alignment: int = u32(24, "")


@record(size=32)
class DiskGeometryEx(Record):
    """DISK_GEOMETRY_EX, as far as it is always answered."""

    cylinders: int = u64(0, "")
    media_type: int = u32(8, "MEDIA_TYPE")
    tracks_per_cylinder: int = u32(12, "")
    sectors_per_track: int = u32(16, "")
    bytes_per_sector: int = u32(20, "")
    disk_size: int = u64(24, "bytes")


@record(size=12)
class StorageDeviceNumber(Record):
    """STORAGE_DEVICE_NUMBER."""

    device_type: int = u32(0, "7 = disk, 2 = optical drive")
    device_number: int = u32(4, "N of PhysicalDriveN")
    partition_number: int = u32(8, "0 = the whole drive")


@record(size=24)
class DiskExtent(Record):
    """DISK_EXTENT; VOLUME_DISK_EXTENTS has their count in its first 4 bytes and the first of them at byte 8."""

    disk_number: int = u32(0, "N of PhysicalDriveN")
    padding: bytes = raw(4, 4, "", default=bytes(4))
    starting_offset: int = u64(8, "bytes")
    extent_length: int = u64(16, "bytes")


@record(size=144)
class PartitionInformationEx(Record):
    """PARTITION_INFORMATION_EX.

    DRIVE_LAYOUT_INFORMATION_EX has style and count first and the first of them at byte 48.
    """

    partition_style: int = u32(0, "0 MBR, 1 GPT, 2 none")
    padding: bytes = raw(4, 4, "", default=bytes(4))
    starting_offset: int = u64(8, "bytes")
    partition_length: int = u64(16, "bytes")
    partition_number: int = u32(24, "0 = not used")
    flags: bytes = raw(28, 4, "", default=bytes(4))
    kind: bytes = raw(32, 16, "GPT: type GUID; MBR: type in its first byte")
    rest: bytes = raw(48, 96, "", default=bytes(96))


FIRST_EXTENT = 8
FIRST_PARTITION = 48
