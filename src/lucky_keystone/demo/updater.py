"""The ticket printers' firmware updater: a raw image without a table, one FAT volume from sector 0 on, compressed."""

from __future__ import annotations

import gzip
import hashlib
from pathlib import Path

from ..common.invoker import give_to_user
from ..content.contents import Literal, stream
from ..content.extents import MIB
from ..content.tree import File, Folder
from ..volumes.fat32.kind import FAT32
from .loaders import uefi_loader
from .tidewell import MOMENT

_SIZE = 40 * MIB
_SERIAL = 0x0926_0004


def write_updater(path: Path) -> None:
    """Write the image, gzip-compressed and the same every time, to the new file `path`."""
    firmware = hashlib.shake_128(b"tidewell ticket printer, firmware 4.2").digest(900_000)
    boot = Folder("BOOT", MOMENT, {"BOOTX64.EFI": File("BOOTX64.EFI", Literal(uefi_loader("x64")), MOMENT)})
    entries: dict[str, File | Folder] = {
        "EFI": Folder("EFI", MOMENT, {"BOOT": boot}),
        "printer.bin": File("printer.bin", Literal(firmware), MOMENT),
        "read me.txt": File("read me.txt", Literal(b"Tidewell Ferry Company: ticket printers, 4.2\r\n"), MOMENT),
    }
    volume = FAT32.draft(Folder("", MOMENT, entries), "PRINTER", 512, 512).settle(0, _SIZE)
    end = 0
    with path.open("wb") as file, gzip.GzipFile("", "wb", 6, file, mtime=0) as packed:
        give_to_user(path)
        for region in volume.regions(_SERIAL):
            packed.write(bytes(region.offset - end))
            for extent in region.extents:
                for piece in stream(extent.content):
                    packed.write(piece)
            end = region.offset + region.size
        packed.write(bytes(_SIZE - end))
