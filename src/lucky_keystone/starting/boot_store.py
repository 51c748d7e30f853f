"""Boot stores: which systems a boot manager starts, and from which partition (documented element numbers).

A store is a hive. Each of its objects has elements by number; a device element names a partition by the drive's disk
signature and the partition's first byte, or by GUIDs, so a store belongs to one drive.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING
from uuid import UUID

from msgspec import Struct

from ..common.record import Record, RecordError, raw, record, u32
from ..hive.read import Hive
from ..hive.records import BINARY, DWORD, MULTI_SZ, SZ, text, texts

if TYPE_CHECKING:
    from ..hive.make import NewKey

STORES = {"bios": "boot/BCD", "uefi": "EFI/Microsoft/Boot/BCD"}
"""Where each firmware's boot manager looks for its store, on the volume that it was started from."""

MANAGER = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
GLOBAL_SETTINGS = "{7ea2e1ac-2e61-4728-aaa3-896d9d0a9f0e}"
LOADER_SETTINGS = "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}"
RESUME_SETTINGS = "{1afa9c49-16ab-4a5c-901b-212802da9460}"
MEMORY_TEST = "{b2721d73-1db4-4c62-bf78-c548a880142d}"
# Types of objects.
_MANAGER, _LOADER, _RESUME, _MEMORY_TESTER = 0x1010_0002, 0x1020_0003, 0x1020_0004, 0x1020_0005
_ANY_SETTINGS, _LOADER_SETTINGS, _RESUME_SETTINGS = 0x2010_0000, 0x2020_0003, 0x2020_0004
# Elements of any object.
DEVICE, PATH, DESCRIPTION, LANGUAGE, INHERITED = 0x1100_0001, 0x1200_0002, 0x1200_0004, 0x1200_0005, 0x1400_0006
# Of boot managers; in a loader the numbers 21000001 to 24000001 mean other things.
DEFAULT, DISPLAY_ORDER, TIMEOUT, RESUME_OBJECT, TOOLS = 0x2300_0003, 0x2400_0001, 0x2500_0004, 0x2300_0006, 0x2400_0010
# Of loaders.
SYSTEM_DEVICE, SYSTEM_ROOT, RESUMED_BY = 0x2100_0001, 0x2200_0002, 0x2300_0003
# Of what resumes: where the saved memory is.
SAVED_DEVICE, SAVED_PATH = 0x2100_0001, 0x2200_0002

_FORMS = {1: BINARY, 2: SZ, 3: SZ, 4: MULTI_SZ, 5: BINARY, 6: BINARY, 7: BINARY}
"""Types of registry values by the second digit of an element's number."""
_PARTITION_DEVICE = 6
_GPT, _MBR = 0, 1
_STORE_NAME = "BCD00000000"
_MINOR = 3


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


class WantedStore(Struct, frozen=True, kw_only=True):
    """A store for one system."""

    firmware: str
    """'bios' or 'uefi'."""
    loader: UUID
    """Names the system in the store, and `resume` what wakes it."""
    resume: UUID
    description: str
    language: str
    """'en-US' and so on."""
    timeout: int
    """Seconds."""
    system: PartitionName
    """The partition that the system is on."""
    start: PartitionName
    """The one that the boot manager is on."""
    has_resume: bool
    has_memory_test: bool
    time: int
    """100 ns since 1601."""


def make_store(wanted: WantedStore) -> bytes:
    """Return a boot store."""
    from ..hive.make import NewKey, make_hive

    is_bios = wanted.firmware == "bios"
    ending = "exe" if is_bios else "efi"
    loader, resume = f"{{{wanted.loader}}}", f"{{{wanted.resume}}}"
    system, start = wanted.system.element(), wanted.start.element()
    root = NewKey()
    about = root.below("Description")
    about.values = {
        "KeyName": (SZ, text(_STORE_NAME)),
        "System": (DWORD, (1).to_bytes(4, "little")),
        "TreatAsSystem": (DWORD, (1).to_bytes(4, "little")),
    }
    manager: dict[int, bytes] = {
        DEVICE: start,
        **({} if is_bios else {PATH: text("\\EFI\\Microsoft\\Boot\\bootmgfw.efi")}),
        DESCRIPTION: text("Boot manager"),
        LANGUAGE: text(wanted.language),
        INHERITED: texts((GLOBAL_SETTINGS,)),
        DEFAULT: text(loader),
        DISPLAY_ORDER: texts((loader,)),
        TIMEOUT: wanted.timeout.to_bytes(8, "little"),
        **({RESUME_OBJECT: text(resume)} if wanted.has_resume else {}),
        **({TOOLS: texts((MEMORY_TEST,))} if wanted.has_memory_test else {}),
    }
    _add(root, MANAGER, _MANAGER, manager)
    _add(root, GLOBAL_SETTINGS, _ANY_SETTINGS, {})
    _add(root, LOADER_SETTINGS, _LOADER_SETTINGS, {INHERITED: texts((GLOBAL_SETTINGS,))})
    system_elements = {
        DEVICE: system,
        PATH: text(f"\\windows\\system32\\winload.{ending}"),
        DESCRIPTION: text(wanted.description),
        LANGUAGE: text(wanted.language),
        INHERITED: texts((LOADER_SETTINGS,)),
        SYSTEM_DEVICE: system,
        SYSTEM_ROOT: text("\\windows"),
        **({RESUMED_BY: text(resume)} if wanted.has_resume else {}),
    }
    _add(root, loader, _LOADER, system_elements)
    if wanted.has_resume:
        _add(root, RESUME_SETTINGS, _RESUME_SETTINGS, {INHERITED: texts((GLOBAL_SETTINGS,))})
        waking = {
            DEVICE: system,
            PATH: text(f"\\windows\\system32\\winresume.{ending}"),
            DESCRIPTION: text("Resume from hibernation"),
            LANGUAGE: text(wanted.language),
            INHERITED: texts((RESUME_SETTINGS,)),
            SAVED_DEVICE: system,
            SAVED_PATH: text("\\hiberfil.sys"),
        }
        _add(root, resume, _RESUME, waking)
    if wanted.has_memory_test:
        path = "\\boot\\memtest.exe" if is_bios else "\\EFI\\Microsoft\\Boot\\memtest.efi"
        testing = {
            DEVICE: start,
            PATH: text(path),
            DESCRIPTION: text("Memory test"),
            LANGUAGE: text(wanted.language),
            INHERITED: texts((GLOBAL_SETTINGS,)),
        }
        _add(root, MEMORY_TEST, _MEMORY_TESTER, testing)
    return make_hive(root, "NewStoreRoot", minor=_MINOR, time=wanted.time, name=_STORE_NAME)


def _add(root: NewKey, name: str, kind: int, elements: dict[int, bytes]) -> None:
    made = root.below(f"Objects\\{name}")
    made.below("Description").values["Type"] = (DWORD, kind.to_bytes(4, "little"))
    place = made.below("Elements")
    for number, data in elements.items():
        place.below(f"{number:08x}").values["Element"] = (_FORMS[number >> 24 & 0xF], data)


class StoredSystem(Struct, frozen=True):
    """A system that a store starts."""

    description: str
    path: str
    """Of its loader, with backslashes."""
    partitions: Sequence[PartitionName]
    """That its device elements name; none where they name something else, as the one that was started from."""
    is_default: bool


def read_systems(hive: Hive) -> Iterator[StoredSystem]:
    """Yield the systems in a boot store. Raises HiveError where it is not a hive, or damaged."""
    objects = hive.find("Objects")
    if objects is None:
        raise hive.fault(0, "it is a registry hive, but no boot store")
    default = _text(hive, f"Objects\\{MANAGER}", DEFAULT)
    for each in objects.subkeys():
        about = each.subkey("Description")
        kind = about.value("Type") if about is not None else None
        if kind is None or kind.number() != _LOADER:
            continue
        place = f"Objects\\{each.name}"
        named = [named_partition(_element(hive, place, number)) for number in (DEVICE, SYSTEM_DEVICE)]
        yield StoredSystem(
            _text(hive, place, DESCRIPTION),
            _text(hive, place, PATH),
            [each for each in dict.fromkeys(named) if each is not None],
            each.name.lower() == default.lower(),
        )


def _element(hive: Hive, place: str, number: int) -> bytes:
    key = hive.find(f"{place}\\Elements\\{number:08x}")
    value = key.value("Element") if key is not None else None
    return value.data if value is not None else b""


def _text(hive: Hive, place: str, number: int) -> str:
    return _element(hive, place, number).decode("utf-16-le", "replace").partition("\0")[0]
