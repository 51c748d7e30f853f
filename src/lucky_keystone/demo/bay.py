"""The Tidewell workshop's bay: four drives, two of which must not be written."""

from __future__ import annotations

from pathlib import Path

from ..common.invoker import make_folder, write_text
from ..drives.bay import DESCRIPTION
from ..drives.image_file import ImageFile
from ..tables.mbr import MbrPartition, compose_mbr

_DESCRIPTION = """\
# Simulated drives of the Tidewell Ferry Company's workshop. Each is an image file beside this description.

[[drive]]
file = "stick-small.img"
model = "Mudlark Mini"
serial = "MM-004-7719"
speed = "USB 2, 480 Mbit/s"

[[drive]]
file = "stick-large.img"
model = "Gangway Pro"
serial = "GP-016-2045"
speed = "USB 3, 5 Gbit/s"

[[drive]]
file = "disk-archive.img"
model = "Harbour Archive"
serial = "HA-1000-0031"
speed = "USB 3, 5 Gbit/s"
removable = false
mounts = ["/media/workshop/timetables"]

[[drive]]
file = "disk-system.img"
model = "Keelson 256"
serial = "KS-256-9913"
bus = "SATA"
speed = "6 Gbit/s"
removable = false
internal = true
holds_system = true
mounts = ["/"]
"""

_SIZES = {
    "stick-small.img": 4_004_511_744,  # sold as 4 GB: too small for the demo's installer
    "stick-large.img": 16_008_609_792,
    "disk-archive.img": 1_000_204_886_016,
    "disk-system.img": 256_060_514_304,
}


def make_bay(folder: Path) -> None:
    """Make the bay in the new folder `folder`. The drives are sparse: they take room only when they are written."""
    make_folder(folder)
    write_text(folder / DESCRIPTION, _DESCRIPTION)
    for name, size in _SIZES.items():
        with ImageFile.make(folder / name, size) as drive:
            if name != "stick-small.img":
                old_tables(drive)


def old_tables(drive: ImageFile) -> None:
    """Put on what a used drive has: two old partitions, and the remains of a GPT in the last sector."""
    sectors = drive.size // 512
    half = sectors // 2 // 2048 * 2048
    old = [
        MbrPartition(1, False, 0x07, 2048, half - 2048),
        MbrPartition(2, False, 0x83, half, sectors // 2048 * 2048 - half),
    ]
    if sectors < 1 << 32:
        drive.write_at(0, memoryview(compose_mbr(b"", 0x7461_6C65 ^ sectors & 0xFFFF, old, 512)))
    drive.write_at(drive.size - 512, memoryview(b"EFI PART".ljust(512, b"\0")))
