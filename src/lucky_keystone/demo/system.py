"""The system of the Tidewell Ferry Company's bridge, as an install image: everything in it is made up."""

from __future__ import annotations

import hashlib
from pathlib import Path

from ..content.contents import stream
from ..hive.make import NewKey, make_hive
from ..hive.records import DWORD
from .install_image import DemoEdition, Resource, install_image, small_resource
from .loaders import system_loader
from .signing import signed
from .tidewell import VERSION

_X64 = 9
_MOMENT = 133_850_000_000_000_000
"""100 ns since 1601."""


def write_system(path: Path) -> None:
    """Write an install image with one edition, which can be started."""
    image = install_image(
        [DemoEdition("Tidewell Bridge", "Bridge", _files())], architecture=_X64, version=VERSION, language="en-GB"
    )
    with path.open("xb") as out:
        for piece in stream(image):
            out.write(piece)


def _files() -> list[tuple[str, Resource]]:
    windows = {
        "Boot/PCAT/bootmgr": system_loader("bios") + _noise("bootmgr", 380_000),
        "Boot/PCAT/memtest.exe": _noise("memtest", 31_000),
        "Boot/PCAT/en-GB/bootmgr.exe.mui": _noise("bootmgr.mui", 4_100),
        "Boot/EFI/bootmgfw.efi": signed(system_loader("uefi")),
        "Boot/EFI/en-GB/bootmgfw.efi.mui": _noise("bootmgfw.mui", 4_300),
        "Boot/Fonts/wharf_console.ttf": _noise("font", 44_184),
        "Boot/Resources/bootres.dll": _noise("bootres", 9_300),
        "System32/config/SYSTEM": _hive(),
        "System32/config/SYSTEM.LOG1": b"",
        "System32/config/SYSTEM.LOG2": b"",
        "System32/winload.exe": _noise("winload.exe", 610_000),
        "System32/winload.efi": _noise("winload.efi", 640_000),
        "System32/winresume.exe": _noise("winresume.exe", 90_000),
        "System32/winresume.efi": _noise("winresume.efi", 93_000),
        **{f"System32/harbour{number:03}.dll": _noise(f"harbour {number}", 900 * number) for number in range(160)},
    }
    files = {f"Windows/{path}": data for path, data in windows.items()}
    files |= {
        "Program Files/Wheelhouse/wheelhouse.exe": _noise("wheelhouse", 250_000),
        "Program Files/Wheelhouse/charts/Överfart 東京.dat": _noise("chart", 1_400_000),
        "Users/Default/Desktop/timetable.txt": b"09:26 pier 4\r\n",
    }
    return [(path, small_resource(data)) for path, data in files.items()]


def _hive() -> bytes:
    """Return a SYSTEM hive that starts with its first control set."""
    root = NewKey()
    root.below("Select").values = {
        name: (DWORD, number.to_bytes(4, "little")) for name, number in (("Current", 1), ("Default", 1), ("Failed", 0))
    }
    for service in ("ferry", "harbour", "partmgr"):
        key = root.below(f"ControlSet001\\Services\\{service}")
        key.values = {"Start": (DWORD, bytes(4)), "Type": (DWORD, (1).to_bytes(4, "little"))}
    root.below("ControlSet001\\Control\\Session Manager")
    return make_hive(root, "ROOT", minor=5, time=_MOMENT, name="SYSTEM")


def _noise(name: str, size: int) -> bytes:
    """Return bytes that do not compress, the same for the same name."""
    return hashlib.shake_128(f"tidewell bridge {name}".encode()).digest(size)
