"""The Tidewell Ferry Company's installer, as a tree: everything in it is made up."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from datetime import datetime

from ..content.contents import Content, Literal
from ..content.tree import File, Folder
from ..starting.pe import REMOVABLE_LOADERS
from .install_image import DemoEdition, Resource, hollow_resources, install_image, small_resource
from .loaders import bios_loader, uefi_loader

DISC = "tidewell-11.iso"
"""Name of the disc's file."""
LABEL = "TIDEWELL_11"
MOMENT = datetime(2026, 3, 14, 9, 26, 52)
VERSION = (11, 2, 30110, 41)
_X64 = 9


def installer(
    *,
    loader_size: int = 410 << 10,
    hollow_size: int = 640 << 20,
    hollow_count: int = 7,
    files: int = 96,
    architectures: Sequence[str] = ("x64",),
    is_signed: bool = False,
    boot_programs: Sequence[tuple[str, Resource]] = (),
) -> Folder:
    """Return the installer's tree.

    `loader_size`: bytes of the BIOS loader. The install image holds `hollow_count` large resources of `hollow_size`
    bytes (the default makes it larger than FAT32 can hold). `files`: how many small files lie in support/.
    `architectures`: which UEFI loaders it has. `is_signed`: by the workshop, for Secure Boot.
    `boot_programs`: what the setup environment is started by, within its image.
    """
    environment = install_image(
        [
            DemoEdition(
                "Tidewell Setup",
                "Setup",
                [
                    ("setup.cmd", small_resource(b"start setup\r\n")),
                    ("drivers.bin", small_resource(noise("drivers", 3 << 20))),
                    *boot_programs,
                ],
            )
        ],
        architecture=_X64,
        version=VERSION,
        language="en-GB",
        boot_index=1,
    )
    install = install_image(_editions(hollow_size, hollow_count), architecture=_X64, version=VERSION, language="en-GB")
    settings = noise("bcd", 24 << 10)
    root = Folder("", MOMENT)
    _put(root, "bootmgr", Literal(bios_loader(loader_size, settings, environment)))
    _put(root, "boot/bcd", Literal(settings))
    _put(root, "boot/boot.sdi", Literal(noise("sdi", 3_170_304)))
    _put(root, "boot/fonts/wharf_console.ttf", Literal(noise("font", 44_184)))
    for architecture in architectures:
        loader = uefi_loader(architecture)
        if is_signed:
            from .signing import signed  # what reads certificates takes its time to load

            loader = signed(loader)
        _put(root, f"efi/boot/{REMOVABLE_LOADERS[architecture]}", Literal(loader))
    _put(root, "efi/microsoft/boot/bcd", Literal(settings))
    _put(root, "setup.exe", Literal(noise("setup", 96_512)))
    _put(root, "sources/boot.wim", environment)
    _put(root, "sources/install.wim", install)
    _put(root, "sources/lang.ini", Literal(b"[Available UI Languages]\r\nen-GB = 3\r\n"))
    _put(root, "sources/empty.flag", Literal(b""))
    _put(root, "support/Fährplan Überfahrt 東京.txt", Literal(b"Abfahrt 09:26, Steg 4\r\n"))
    for number in range(files):
        _put(
            root,
            f"support/ticket counter {number % 8}/driver package {number:04}.cab",
            Literal(noise(f"cab {number}", 700 * number % 90_001)),
        )
    return root


def _editions(hollow_size: int, hollow_count: int) -> list[DemoEdition]:
    shared = [
        ("harbour.dll", small_resource(noise("harbour", 2 << 20))),
        ("pier.dll", small_resource(noise("pier", 900_001))),
    ]
    hollow = (
        [
            (f"chart{number}.dat", resource)
            for number, resource in enumerate(hollow_resources(hollow_count, hollow_size))
        ]
        if hollow_count
        else []
    )
    return [
        DemoEdition("Tidewell Counter", "Counter", [*shared, *hollow[: len(hollow) // 2]]),
        DemoEdition("Tidewell Crew", "Crew", [*shared, *hollow]),
        DemoEdition(
            "Tidewell Bridge", "Bridge", [*shared, *hollow, ("bridge.dll", small_resource(noise("bridge", 1_500_000)))]
        ),
    ]


def noise(name: str, size: int) -> bytes:
    """Return bytes that do not compress, the same for the same name."""
    return hashlib.shake_128(f"tidewell {name}".encode()).digest(size)


def _put(root: Folder, path: str, content: Content) -> None:
    root.put(path, File(path.rpartition("/")[2], content, MOMENT))
