"""Boot stores on a drive: whether the system that one starts is on this very drive, where the store says."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

from msgspec import Struct

from ..common.errors import KeystoneError
from ..hive.read import Hive
from .boot_store import STORES, StoredSystem, read_systems
from .bootable import Bootable, BootFile, BootVolume

_LARGEST = 16 << 20
_MAGIC = b"regf"


class StoreFault(Struct, frozen=True):
    """What is wrong with a store."""

    path: str
    why: str
    """Completes 'PATH …'."""
    is_other_drive: bool = False
    """True where it names a partition that this drive does not have."""


def store_fault(drive: Bootable, volume: BootVolume, firmware: str) -> StoreFault | None:
    """Return why a store on a volume does not start the system that it names; None where nothing speaks against it.

    Stores that name no partition, as those of installers do, have no fault, nor has what is not a registry hive.
    """
    path = STORES[firmware]
    file = volume.find(path)
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
            return StoreFault(path, f"starts {system.description} from {missing}, which is not there")
    return None


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
                yield StoreFault(STORES[firmware], why)


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


def _systems(file: BootFile) -> Iterator[StoredSystem]:
    size = min(file.content.size, file.size)
    if not len(_MAGIC) <= size <= _LARGEST or file.content.read_at(0, len(_MAGIC)) != _MAGIC:
        return
    yield from read_systems(Hive(file.content.read_at(0, size), file.path))
