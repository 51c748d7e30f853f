"""Boot stores: which systems a boot manager starts, and from which partition (documented element numbers).

A store is a hive. Each of its objects has elements by number; a device element names a partition by the drive's disk
signature and the partition's first byte, or by GUIDs, so a store belongs to one drive.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from uuid import UUID

from msgspec import Struct

from ..common.record import Record, RecordError, raw, record, u32
from ..hive.read import Hive
from ..hive.records import text

STORES = {"bios": "boot/BCD", "uefi": "EFI/Microsoft/Boot/BCD"}
"""Where each firmware's boot manager looks for its store, on the volume that it was started from."""

MANAGER = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
GLOBAL_SETTINGS = "{7ea2e1ac-2e61-4728-aaa3-896d9d0a9f0e}"
LOADER_SETTINGS = "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}"
RESUME_SETTINGS = "{1afa9c49-16ab-4a5c-901b-212802da9460}"
MEMORY_TEST = "{b2721d73-1db4-4c62-bf78-c548a880142d}"
LOADER = 0x1020_0003
"""Type of the objects that start systems."""
# Elements of any object.
DEVICE, PATH, DESCRIPTION, LANGUAGE, INHERITED = 0x1100_0001, 0x1200_0002, 0x1200_0004, 0x1200_0005, 0x1400_0006
# Of boot managers; in a loader the numbers 21000001 to 24000001 mean other things.
DEFAULT, DISPLAY_ORDER, TIMEOUT, RESUME_OBJECT, TOOLS = 0x2300_0003, 0x2400_0001, 0x2500_0004, 0x2300_0006, 0x2400_0010
# Of loaders.
SYSTEM_DEVICE, SYSTEM_ROOT, RESUMED_BY = 0x2100_0001, 0x2200_0002, 0x2300_0003
FINDS_HARDWARE, IS_SETUP_ENVIRONMENT = 0x2600_0010, 0x2600_0022
# Of what resumes: where the saved memory is.
SAVED_DEVICE, SAVED_PATH = 0x2100_0001, 0x2200_0002
# Of the settings of a RAM disk: the file that it begins with.
RAM_DISK_BASE_DEVICE, RAM_DISK_BASE = 0x3100_0003, 0x3200_0004

_BLOCK_DEVICE, _START_DEVICE, _PARTITION_DEVICE = 0, 5, 6
_GPT, _MBR = 0, 1


@record(size=88)
class DeviceElement(Record):
    """The value of a device element that names a partition (public descriptions of the store; MBR form not proven)."""

    options: bytes = raw(0, 16, "GUID of additional options", default=bytes(16))
    type: int = u32(16, "6: a partition; 5: the one that was started from")
    flags: int = u32(20, "", default=0)
    size: int = u32(24, "bytes from `type` on", default=72)
    reserved: int = u32(28, "", default=0)
    partition: bytes = raw(32, 16, "MBR: first byte of the drive, in 8 bytes; GPT: the partition's GUID")
    bus: int = u32(48, "0: a disk", default=0)
    style: int = u32(52, "0: GPT, 1: MBR")
    disk: bytes = raw(56, 16, "MBR: disk signature, in 4 bytes; GPT: the disk's GUID")
    rest: bytes = raw(72, 16, "", default=bytes(16))


@record(size=56)
class RamDiskHead(Record):
    """The head of a device element that names an image in memory (public descriptions of the store; not proven here).

    Behind it: the device that the image lies on, as a device element without its first 16 bytes, and the image's path.
    """

    options: bytes = raw(0, 16, "GUID of the object with the RAM disk's settings")
    type: int = u32(16, "0: a device of blocks", default=_BLOCK_DEVICE)
    flags: int = u32(20, "", default=1)
    size: int = u32(24, "bytes from `type` on")
    reserved: int = u32(28, "", default=0)
    kind: int = u32(32, "3: a RAM disk", default=3)
    memory: bytes = raw(36, 20, "where the image is in memory: not known yet", default=bytes(20))


@record(size=12)
class FilePathHead(Record):
    """The head of a path within a device element."""

    version: int = u32(0, "", default=1)
    size: int = u32(4, "bytes of this head, the device and the path")
    kind: int = u32(8, "5: a device, and a path on it", default=5)


_RAM_DISK, _PATH_ON_DEVICE = 3, 5
STARTED_FROM = DeviceElement(type=_START_DEVICE, style=0, partition=bytes(16), disk=bytes(16)).pack()
"""The element that names the volume which the boot manager was started from."""


def ram_disk_element(path: str, options: UUID) -> bytes:
    """Return the element that names an image on that volume (path with backslashes) as a disk in memory."""
    behind = STARTED_FROM[16:] + text(path)
    named = FilePathHead(size=FilePathHead.SIZE + len(behind)).pack() + behind
    size = RamDiskHead.SIZE - 16 + len(named)
    return RamDiskHead(options=options.bytes_le, size=size).pack() + named


class RamDiskName(Struct, frozen=True):
    """An image that a device element names as a disk in memory."""

    path: str
    """With backslashes, on the volume that the boot manager was started from."""
    options: UUID


def named_ram_disk(data: bytes) -> RamDiskName | None:
    """Return the image in memory that a device element names; None where it names none, or one that lies elsewhere."""
    try:
        head = RamDiskHead.unpack(data)
        named = FilePathHead.unpack(data[RamDiskHead.SIZE :])
        device = DeviceElement.unpack(bytes(16) + data[RamDiskHead.SIZE + FilePathHead.SIZE :])
    except RecordError:
        return None
    if (head.type, head.kind, named.kind, device.type) != (_BLOCK_DEVICE, _RAM_DISK, _PATH_ON_DEVICE, _START_DEVICE):
        return None
    path = data[RamDiskHead.SIZE + FilePathHead.SIZE + device.size :].decode("utf-16-le", "replace").partition("\0")[0]
    return RamDiskName(path, UUID(bytes_le=head.options)) if path else None


class PartitionName(Struct, frozen=True):
    """How a store names a partition: by disk signature and first byte, or by GUIDs."""

    signature: int = 0
    first_byte: int = 0
    disk: UUID | None = None
    """None of a drive with an MBR."""
    partition: UUID | None = None

    def element(self) -> bytes:
        """Return the value of the element that names it."""
        if self.disk is None or self.partition is None:
            where, which = self.first_byte.to_bytes(16, "little"), self.signature.to_bytes(16, "little")
            return DeviceElement(type=_PARTITION_DEVICE, style=_MBR, partition=where, disk=which).pack()
        where, which = self.partition.bytes_le, self.disk.bytes_le
        return DeviceElement(type=_PARTITION_DEVICE, style=_GPT, partition=where, disk=which).pack()

    def __str__(self) -> str:
        if self.disk is None:
            return f"byte {self.first_byte:,} of the disk with signature {self.signature:08X}"
        return f"partition {self.partition} of disk {self.disk}"


def named_partition(data: bytes) -> PartitionName | None:
    """Return the partition that a device element names; None where it names none, or something else."""
    try:
        found = DeviceElement.unpack(data)
    except RecordError:
        return None
    if found.type != _PARTITION_DEVICE or found.bus:
        return None
    if found.style == _GPT:
        return PartitionName(disk=UUID(bytes_le=found.disk), partition=UUID(bytes_le=found.partition))
    if found.style == _MBR:
        first = int.from_bytes(found.partition[:8], "little")
        return PartitionName(signature=int.from_bytes(found.disk[:4], "little"), first_byte=first)
    return None


class StoredSystem(Struct, frozen=True):
    """A system that a store starts."""

    description: str
    path: str
    """Of its loader, with backslashes."""
    partitions: Sequence[PartitionName]
    """That its device elements name; none where they name something else, as the one that was started from."""
    is_default: bool
    ram_disk: str = ""
    """The image that it is in memory, with backslashes, on the volume that was started from; '' of any other."""
    ram_disk_base: str = ""
    """The file that its RAM disk begins with, likewise."""
    place: int = 0
    """Where the boot manager's list has it, from 0 on; beyond all others where it is not in the list."""


def read_systems(hive: Hive) -> Iterator[StoredSystem]:
    """Yield the systems in a boot store. Raises HiveError where it is not a hive, or damaged."""
    objects = hive.find("Objects")
    if objects is None:
        raise hive.fault(0, "it is a registry hive, but no boot store")
    default = _text(hive, f"Objects\\{MANAGER}", DEFAULT)
    listed = _element(hive, f"Objects\\{MANAGER}", DISPLAY_ORDER).decode("utf-16-le", "replace").lower().split("\0")
    for each in objects.subkeys():
        about = each.subkey("Description")
        kind = about.value("Type") if about is not None else None
        if kind is None or kind.number() != LOADER:
            continue
        place = f"Objects\\{each.name}"
        named = [named_partition(_element(hive, place, number)) for number in (DEVICE, SYSTEM_DEVICE)]
        image = named_ram_disk(_element(hive, place, DEVICE))
        base = _text(hive, f"Objects\\{{{image.options}}}", RAM_DISK_BASE) if image is not None else ""
        yield StoredSystem(
            _text(hive, place, DESCRIPTION),
            _text(hive, place, PATH),
            [each for each in dict.fromkeys(named) if each is not None],
            each.name.lower() == default.lower(),
            image.path if image is not None else "",
            base,
            listed.index(each.name.lower()) if each.name.lower() in listed else len(listed),
        )


def _element(hive: Hive, place: str, number: int) -> bytes:
    key = hive.find(f"{place}\\Elements\\{number:08x}")
    value = key.value("Element") if key is not None else None
    return value.data if value is not None else b""


def _text(hive: Hive, place: str, number: int) -> str:
    return _element(hive, place, number).decode("utf-16-le", "replace").partition("\0")[0]
