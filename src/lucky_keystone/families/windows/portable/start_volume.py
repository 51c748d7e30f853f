"""The system volume of a drive that a Windows runs from: boot programs, and stores that name the drive."""

from __future__ import annotations

from collections.abc import Callable
from uuid import UUID, uuid5

from msgspec import Struct

from ....content.contents import Awaited
from ....content.tree import File, Folder
from ....starting.boot_store import STORES, PartitionName
from ....starting.store_making import WantedStore, make_store
from ....volumes.ntfs.attributes import filetime
from ....wim.read import Edition
from ...family import DriveNames, PartitionPlace
from .boot_files import BootFiles, bios_files, uefi_files
from .system import System

_TIMEOUT = 5
"""Seconds."""


class StartVolume(Struct, frozen=True):
    """The system volume: its tree, and what gives its stores their bytes once the drive has names."""

    tree: Folder
    settle: Callable[[DriveNames], None]


def start_volume(system: System, firmware: str, signing: str | None) -> StartVolume:
    """Make the system volume for 'bios', 'uefi' or 'both', with loaders signed under a generation if one is named."""
    edition, root = system.edition, system.tree
    tree = Folder("", root.modified)
    stores: list[tuple[Awaited, Callable[[DriveNames], bytes]]] = []

    def add(path: str, file: File) -> None:
        nonlocal tree
        tree = tree.replaced(path, file)

    def add_store(kind: str, files: BootFiles) -> None:
        def made(names: DriveNames) -> bytes:
            return make_store(_store(names, kind, files, edition, filetime(root.modified)))

        content = Awaited(len(made(_NAMELESS)))  # it has the same length whatever it names
        stores.append((content, made))
        add(STORES[kind], File("BCD", content, root.modified))

    for kind in ("bios", "uefi"):
        if firmware not in (kind, "both"):
            continue
        if kind == "bios":
            files = bios_files(root, edition.languages)
        else:
            files = uefi_files(root, system.architecture, edition.languages, signing)
        for path, file in files.files:
            add(path, file)
        add_store(kind, files)

    def settle(names: DriveNames) -> None:
        for content, made in stores:
            content.settle(made(names))

    return StartVolume(tree, settle)


def _store(names: DriveNames, kind: str, files: BootFiles, edition: Edition, time: int) -> WantedStore:
    return WantedStore(
        firmware=kind,
        loader=names.guid("boot loader GUID"),
        resume=names.guid("boot resume GUID"),
        description=edition.name or "Windows",
        language=files.language,
        timeout=_TIMEOUT,
        system=partition_name(names, "system"),
        start=partition_name(names, "start"),
        has_resume=files.has_resume,
        has_memory_test=files.has_memory_test,
        time=time,
    )


_NOWHERE = PartitionPlace(0, UUID(int=0))
_NAMELESS = DriveNames(
    "mbr", 0, UUID(int=0), {"system": _NOWHERE, "start": _NOWHERE}, lambda purpose: uuid5(UUID(int=0), purpose)
)


def partition_name(names: DriveNames, volume: str) -> PartitionName:
    """Return how a boot store names a volume's partition."""
    place = names.partitions[volume]
    if names.table == "gpt":
        return PartitionName(disk=names.disk, partition=place.guid)
    return PartitionName(signature=names.signature, first_byte=place.first_byte)
