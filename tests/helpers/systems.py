"""Made-up systems in install images: what a Windows that runs from the drive is made of, for tests."""

from __future__ import annotations

import random
from collections.abc import Mapping

from lucky_keystone.common.descriptors import ADMINISTRATORS, EVERYONE, SYSTEM, allowed, descriptor
from lucky_keystone.demo.loaders import uefi_loader

from .hives import Keys, hive_of
from .install_images import Item
from .releases import merged, some, tree

DWORD, SZ = 4, 1
OWN = descriptor(SYSTEM, SYSTEM, [allowed(3, 0x001F01FF, SYSTEM), allowed(3, 0x001200A9, EVERYONE)])
SHARED = descriptor(ADMINISTRATORS, SYSTEM, [allowed(3, 0x001F01FF, ADMINISTRATORS)])


def system_hive(*, default: int = 2, marked: bool = False, dirty: bool = False, seed: int = 7) -> bytes:
    """Return a SYSTEM hive with three control sets, of which `default` is the one that is used."""

    def number(value: int) -> tuple[int, bytes]:
        return DWORD, value.to_bytes(4, "little")

    def control_set(n: int) -> Keys:
        marks = {"PortableOperatingSystem": number(0)} if marked else {}
        policy = {"Parameters": Keys({"SanPolicy": number(1)})} if marked else {}
        services = {f"ferry{each:03}": Keys({"Start": number(3)}) for each in range(120)}
        return Keys(
            {},
            {
                "Control": Keys({"CurrentUser": (SZ, f"USERNAME {n}\0".encode("utf-16-le")), **marks}),
                "Services": Keys({}, {**services, "partmgr": Keys({"Start": number(0)}, policy)}),
            },
        )

    sets = {f"ControlSet{n:03}": control_set(n) for n in (1, 2, 3)}
    select = Keys({"Current": number(1), "Default": number(default), "Failed": number(0)})
    tree_ = Keys({}, {**sets, "MountedDevices": Keys(), "Select": select})
    return hive_of(tree_, random.Random(seed), dirty=dirty)


def system(
    *,
    hive: bytes | None = None,
    bootmgr: bytes | None = None,
    loader: bytes | None = None,
    bios: bool = True,
    uefi: bool = True,
    log: bytes = b"",
    further: Mapping[str, Item] | None = None,
) -> dict[str, Item]:
    """Return the tree of an edition that can be started."""
    files: dict[str, Item] = {
        "Windows/System32/config/SYSTEM": Item(system_hive() if hive is None else hive, security=OWN),
        "Windows/System32/config/SYSTEM.LOG1": Item(log, attributes=0x26),
        "Windows/System32/config/SYSTEM.LOG2": Item(b"", attributes=0x26),
        "Windows/Boot/Fonts/wharf.ttf": Item(some("wharf", 44_184)),
        "Windows/Boot/Resources/bootres.dll": Item(some("bootres", 9_000)),
        "Windows/Boot/Resources/en-GB/bootres.dll.mui": Item(some("bootres.mui", 700)),
        "Windows/explorer.exe": Item(some("explorer", 90_000), security=SHARED, link=9),
        "Windows/WinSxS/tidewell-shell/explorer.exe": Item(some("explorer", 90_000), security=SHARED, link=9),
        "Program Files/Harbour/harbour.exe": Item(some("harbour", 70_000), streams={"Zone": b"[ZoneTransfer]"}),
        "Users/Default/NTUSER.DAT": Item(some("ntuser", 5_000), attributes=0x22, short="NTUSER~1.DAT"),
    }
    if bios:
        files |= {
            "Windows/Boot/PCAT/bootmgr": Item(some("bootmgr", 390_000) if bootmgr is None else bootmgr),
            "Windows/Boot/PCAT/memtest.exe": Item(some("memtest", 30_000)),
            "Windows/Boot/PCAT/en-GB/bootmgr.exe.mui": Item(some("mui", 4_000)),
            "Windows/System32/winload.exe": Item(some("winload.exe", 600_000)),
            "Windows/System32/winresume.exe": Item(some("winresume.exe", 60_000)),
        }
    if uefi:
        files |= {
            "Windows/Boot/EFI/bootmgfw.efi": Item(uefi_loader("x64") if loader is None else loader),
            "Windows/Boot/EFI/bootmgr.efi": Item(some("bootmgr.efi", 40_000)),
            "Windows/Boot/EFI/en-GB/bootmgfw.efi.mui": Item(some("mui.efi", 4_000)),
            "Windows/System32/winload.efi": Item(some("winload.efi", 700_000)),
            "Windows/System32/winresume.efi": Item(some("winresume.efi", 60_000)),
        }
    made = merged(*(tree(path, item) for path, item in files.items()), dict(further or {}))
    made["Windows"].security = OWN
    return made
