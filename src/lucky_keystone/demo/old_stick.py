"""A stick of the ticket counters that somebody made by hand: all files are there, and no machine starts it."""

from __future__ import annotations

from pathlib import Path

from ..building.build import build
from ..building.compose import compose_drive
from ..common.progress import silent
from ..content.tree import Folder
from ..drives.image_file import ImageFile
from ..families.choices import Choices
from ..families.family import DriveShape
from ..planning.make import make_plan
from ..sources.source import Source
from .tidewell import installer

_SIZE = 128 << 20
_NO_CODE = b"This stick was formatted for lost property lists."


def write_old_stick(path: Path) -> None:
    """Write the stick: a loader under the name it has on a disk, no active mark, and boot code of nobody's."""
    tree = installer(hollow_count=0, files=12)
    _move_loader(tree)
    source = Source(path=Path("tidewell by hand"), form="folder", label="COUNTER 4", root=tree)
    image = compose_drive(make_plan(source, Choices(firmware="bios"), DriveShape(path.name, _SIZE)))
    with ImageFile.make(path, image.size) as drive:
        build(image, drive, silent)
        start = image.partitions[0].offset
        head = bytearray(drive.read_at(0, start))
        head[:440] = bytes(440)  # partitioned by a tool that writes no code
        head[446] = 0
        head[512:] = bytes(start - 512)  # and no manifest
        drive.write_at(0, memoryview(head))
        front = bytearray(drive.read_at(start, 16 * 512))
        for sector in (0, 6):
            at = sector * 512 + 90
            front[at : at + 420] = _NO_CODE.ljust(420, b"\0")
        front[12 * 512 : 14 * 512] = bytes(1024)
        drive.write_at(start, memoryview(front))
        drive.flush()


def _move_loader(tree: Folder) -> None:
    """Put the UEFI loader where it is on a disk that Windows was installed on, which firmware does not look into."""
    boot, installed = tree.find_folder("efi/boot"), tree.find_folder("efi/microsoft/boot")
    assert boot is not None
    assert installed is not None
    loader = boot.entries.pop("bootx64.efi")
    loader.name = "bootmgfw.efi"
    installed.entries[loader.name] = loader
