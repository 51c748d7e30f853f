"""Makes boot stores: for a system on a partition, and for a menu of setup environments."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID, uuid5

from msgspec import Struct

from ..hive.make import NewKey, make_hive
from ..hive.records import BINARY, DWORD, MULTI_SZ, SZ, text, texts
from .boot_store import (
    DEFAULT,
    DESCRIPTION,
    DEVICE,
    DISPLAY_ORDER,
    FINDS_HARDWARE,
    GLOBAL_SETTINGS,
    INHERITED,
    IS_SETUP_ENVIRONMENT,
    LANGUAGE,
    LOADER,
    LOADER_SETTINGS,
    MANAGER,
    MEMORY_TEST,
    PATH,
    RAM_DISK_BASE,
    RAM_DISK_BASE_DEVICE,
    RESUME_OBJECT,
    RESUME_SETTINGS,
    RESUMED_BY,
    SAVED_DEVICE,
    SAVED_PATH,
    STARTED_FROM,
    SYSTEM_DEVICE,
    SYSTEM_ROOT,
    TIMEOUT,
    TOOLS,
    PartitionName,
    ram_disk_element,
)

# Types of objects.
_MANAGER, _RESUME, _MEMORY_TESTER = 0x1010_0002, 0x1020_0004, 0x1020_0005
_ANY_SETTINGS, _LOADER_SETTINGS, _RESUME_SETTINGS = 0x2010_0000, 0x2020_0003, 0x2020_0004
_RAM_DISK_SETTINGS = 0x3000_0000

_FORMS = {1: BINARY, 2: SZ, 3: SZ, 4: MULTI_SZ, 5: BINARY, 6: BINARY, 7: BINARY}
"""Types of registry values by the second digit of an element's number."""
_STORE_NAME = "BCD00000000"
_MINOR = 3
_YES = b"\1"
MEMORY_TESTS = {"bios": "boot/memtest.exe", "uefi": "EFI/Microsoft/Boot/memtest.efi"}
"""Where each firmware's boot manager has the memory test."""
_SPACE = UUID("6f0f2f0c-6a53-5a0b-9f3a-8b8f3a1c7d24")
"""Names of a menu's objects derive from it: such a store names no drive."""


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
    is_bios = wanted.firmware == "bios"
    ending = "exe" if is_bios else "efi"
    loader, resume = f"{{{wanted.loader}}}", f"{{{wanted.resume}}}"
    system, start = wanted.system.element(), wanted.start.element()
    root = _new_store()
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
    _add_object(root, MANAGER, _MANAGER, manager)
    _add_object(root, GLOBAL_SETTINGS, _ANY_SETTINGS, {})
    _add_object(root, LOADER_SETTINGS, _LOADER_SETTINGS, {INHERITED: texts((GLOBAL_SETTINGS,))})
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
    _add_object(root, loader, LOADER, system_elements)
    if wanted.has_resume:
        _add_object(root, RESUME_SETTINGS, _RESUME_SETTINGS, {INHERITED: texts((GLOBAL_SETTINGS,))})
        waking = {
            DEVICE: system,
            PATH: text(f"\\windows\\system32\\winresume.{ending}"),
            DESCRIPTION: text("Resume from hibernation"),
            LANGUAGE: text(wanted.language),
            INHERITED: texts((RESUME_SETTINGS,)),
            SAVED_DEVICE: system,
            SAVED_PATH: text("\\hiberfil.sys"),
        }
        _add_object(root, resume, _RESUME, waking)
    if wanted.has_memory_test:
        _add_memory_test(root, wanted.firmware, start, wanted.language)
    return make_hive(root, "NewStoreRoot", minor=_MINOR, time=wanted.time, name=_STORE_NAME)


class MenuEntry(Struct, frozen=True, kw_only=True):
    """A setup environment, which runs in memory. Paths from the root of the volume that was started from, with '/'."""

    name: str
    image: str
    base: str
    """The file that its RAM disk begins with."""
    loader: str
    """Within the image."""


class WantedMenu(Struct, frozen=True, kw_only=True):
    """A store that lists setup environments."""

    firmware: str
    """'bios' or 'uefi'."""
    entries: Sequence[MenuEntry]
    default: int
    """Of the entries, from 0 on."""
    timeout: int
    """Seconds until the default is started."""
    language: str
    has_memory_test: bool
    time: int
    """100 ns since 1601."""


def make_menu(wanted: WantedMenu) -> bytes:
    """Return a boot store whose entries the boot manager lists on the screen; it serves any drive."""
    root = _new_store()
    names = [f"{{{uuid5(_SPACE, f'{wanted.firmware} loader {number}')}}}" for number in range(len(wanted.entries))]
    manager = {
        DEVICE: STARTED_FROM,
        DESCRIPTION: text("Boot manager"),
        LANGUAGE: text(wanted.language),
        INHERITED: texts((GLOBAL_SETTINGS,)),
        DEFAULT: text(names[wanted.default]),
        DISPLAY_ORDER: texts(tuple(names)),
        TIMEOUT: wanted.timeout.to_bytes(8, "little"),
        **({TOOLS: texts((MEMORY_TEST,))} if wanted.has_memory_test else {}),
    }
    _add_object(root, MANAGER, _MANAGER, manager)
    _add_object(root, GLOBAL_SETTINGS, _ANY_SETTINGS, {})
    _add_object(root, LOADER_SETTINGS, _LOADER_SETTINGS, {INHERITED: texts((GLOBAL_SETTINGS,))})
    for number, (name, entry) in enumerate(zip(names, wanted.entries, strict=True)):
        settings = uuid5(_SPACE, f"{wanted.firmware} RAM disk {number}")
        base = {RAM_DISK_BASE_DEVICE: STARTED_FROM, RAM_DISK_BASE: text(_backward(entry.base))}
        _add_object(root, f"{{{settings}}}", _RAM_DISK_SETTINGS, base)
        device = ram_disk_element(_backward(entry.image), settings)
        elements = {
            DEVICE: device,
            PATH: text(_backward(entry.loader)),
            DESCRIPTION: text(entry.name),
            LANGUAGE: text(wanted.language),
            INHERITED: texts((LOADER_SETTINGS,)),
            SYSTEM_DEVICE: device,
            SYSTEM_ROOT: text("\\windows"),
            FINDS_HARDWARE: _YES,
            IS_SETUP_ENVIRONMENT: _YES,
        }
        _add_object(root, name, LOADER, elements)
    if wanted.has_memory_test:
        _add_memory_test(root, wanted.firmware, STARTED_FROM, wanted.language)
    return make_hive(root, "NewStoreRoot", minor=_MINOR, time=wanted.time, name=_STORE_NAME)


def _backward(path: str) -> str:
    return "\\" + path.replace("/", "\\")


def _new_store() -> NewKey:
    root = NewKey()
    root.below("Description").values = {
        "KeyName": (SZ, text(_STORE_NAME)),
        "System": (DWORD, (1).to_bytes(4, "little")),
        "TreatAsSystem": (DWORD, (1).to_bytes(4, "little")),
    }
    return root


def _add_memory_test(root: NewKey, firmware: str, device: bytes, language: str) -> None:
    elements = {
        DEVICE: device,
        PATH: text(_backward(MEMORY_TESTS[firmware])),
        DESCRIPTION: text("Memory test"),
        LANGUAGE: text(language),
        INHERITED: texts((GLOBAL_SETTINGS,)),
    }
    _add_object(root, MEMORY_TEST, _MEMORY_TESTER, elements)


def _add_object(root: NewKey, name: str, kind: int, elements: dict[int, bytes]) -> None:
    made = root.below(f"Objects\\{name}")
    made.below("Description").values["Type"] = (DWORD, kind.to_bytes(4, "little"))
    place = made.below("Elements")
    for number, data in elements.items():
        place.below(f"{number:08x}").values["Element"] = (_FORMS[number >> 24 & 0xF], data)
