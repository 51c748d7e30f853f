"""Boot stores on a drive: whether the system that one starts is on this very drive, where the store says."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

from msgspec import Struct

from ..common.errors import KeystoneError
from ..hive.read import Hive
from ..setup.folders import SETUP_IMAGES
from .boot_store import STORES, StoredSystem, read_systems
from .bootable import Bootable, BootFile, BootVolume
from .loaders import loader_path
from .pe import REMOVABLE_LOADERS

_LARGEST = 16 << 20
_MAGIC = b"regf"
_UEFI_FOLDER = STORES["uefi"].rpartition("/")[0]


class StoreFault(Struct, frozen=True):
    """What is wrong with a store."""

    path: str
    why: str
    """Completes 'PATH …'."""
    is_other_drive: bool = False
    """True where it names a partition that this drive does not have."""
    missing: str = ""
    """The file that is not there: one that a system in memory is made from, or the store itself."""


def store_fault(drive: Bootable, volume: BootVolume, firmware: str) -> StoreFault | None:
    """Return why a store on a volume does not start the system that it names; None where nothing speaks against it.

    Stores that name no partition, as those of installers do, have no fault, nor has what is not a registry hive.
    """
    path = STORES[firmware]
    file = volume.find(path)
    if file is None and _is_lost(drive, volume, firmware):
        return StoreFault(path, "is missing", missing=path)
    if file is None or file.faults or file.unseen:
        return None
    try:
        systems = list(_systems(file))
    except KeystoneError as error:
        return StoreFault(path, f"is damaged: {error.message.rstrip('.')}")
    wanted = [system for system in systems if system.is_default] or systems
    for system in wanted:
        for name in system.partitions:
            if name not in drive.partition_names:
                return StoreFault(path, f"names another drive: it starts {system.description} from {name}", True)
            holder = drive.volumes[drive.partition_names.index(name)]
            inside = system.path.replace("\\", "/").strip("/")
            if holder.find(inside) is None:
                return StoreFault(path, f"starts {system.description} by {inside}, which is not there")
        if missing := _missing(system, volume):
            why = f"starts {system.description} from {missing}, which is not there"
            return StoreFault(path, why, missing=missing)
    return None


def store_faults(drive: Bootable, volume: BootVolume, firmware: str) -> Iterator[StoreFault]:
    """Yield why a store does not start what it starts by default; else the entries that cannot be started any more."""
    fault = store_fault(drive, volume, firmware)
    if fault is not None:
        yield fault
    else:
        yield from lost_entries(volume, firmware)


def _is_lost(drive: Bootable, volume: BootVolume, firmware: str) -> bool:
    """Tell whether an installer's volume lacks a store that it had: what belongs beside it is there."""
    with_store = {name: [each for each in drive.volumes if each.find(path)] for name, path in STORES.items()}
    if not any(each.find(path) for each in drive.volumes for path in SETUP_IMAGES):
        return False
    if firmware == "bios":
        return volume.find("bootmgr") is not None and bool(with_store["uefi"])
    is_started = volume.kind.firmware_reads or not with_store["uefi"]
    has_loader = any(volume.find(loader_path(each)) for each in REMOVABLE_LOADERS)
    return is_started and has_loader and bool(volume.listing(_UEFI_FOLDER)) and bool(with_store["bios"])


def _missing(system: StoredSystem, volume: BootVolume) -> str:
    """Return what a system in memory is made from and is not on the volume; '' where all of it is."""
    needed = [each.replace("\\", "/").strip("/") for each in (system.ram_disk, system.ram_disk_base)]
    return next((each for each in needed if each and volume.find(each) is None), "")


def lost_entries(volume: BootVolume, firmware: str) -> Iterator[StoreFault]:
    """Yield the entries of a list, beside the default, that cannot be started any more."""
    with suppress(KeystoneError):  # which is said of the store itself
        for system in systems_in(volume, firmware):
            if not system.is_default and (missing := _missing(system, volume)):
                why = f"lists {system.description}, which starts from {missing}, which is not there"
                yield StoreFault(STORES[firmware], why, missing=missing)


def systems_in(volume: BootVolume, firmware: str) -> list[StoredSystem]:
    """Return the systems in the store of a firmware on a volume; none without a store. Raises KeystoneError."""
    file = volume.find(STORES[firmware])
    return list(_systems(file)) if file is not None and not file.faults and not file.unseen else []


def starts_system(drive: Bootable, volume: BootVolume, firmware: str) -> bool:
    """Tell whether a volume has a store that starts a system from a partition of this drive."""
    file = volume.find(STORES[firmware])
    try:
        if file is None:
            return False
        named = {name for system in _systems(file) for name in system.partitions}
        return not named.isdisjoint(drive.partition_names)
    except KeystoneError:
        return False


def is_readable(file: BootFile) -> bool:
    """Tell whether nothing speaks against a store: a registry hive is whole."""
    try:
        for _ in _systems(file):
            pass
    except KeystoneError:
        return False
    return True


def _systems(file: BootFile) -> Iterator[StoredSystem]:
    size = min(file.content.size, file.size)
    if not len(_MAGIC) <= size <= _LARGEST or file.content.read_at(0, len(_MAGIC)) != _MAGIC:
        return
    yield from read_systems(Hive(file.content.read_at(0, size), file.path))
