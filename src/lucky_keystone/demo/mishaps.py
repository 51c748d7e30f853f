"""The Tidewell workshop's box of bad drives, for training: a bay whose drives have faults on purpose."""

from __future__ import annotations

from pathlib import Path

from ..common.invoker import make_folder, write_text
from ..common.later import tomlkit
from ..drives.bay import DESCRIPTION
from ..drives.image_file import ImageFile
from .bay import old_tables

_SIZE = 2_000_683_008
_DESCRIPTION = """\
# Drives with faults on purpose. What is wrong with each is under [drive.faults]; docs/formats.md explains it.

[[drive]]
file = "fake.img"
model = "Bargain 2000"
serial = "BB-0001"
speed = "USB 2, 480 Mbit/s"
[drive.faults]
real_size = 134217728
beyond = "repeats"

[[drive]]
file = "loose.img"
model = "Wobbly Plug"
serial = "WP-0002"
speed = "USB 3, 5 Gbit/s"
[drive.faults]
bytes_per_second = 120000000
vanishes_after = 230000000
volatile_cache = 33554432

[[drive]]
file = "slow.img"
model = "Old Barge"
serial = "OB-0003"
speed = "USB 2, 480 Mbit/s"
[drive.faults]
bytes_per_second = 40000000

[[drive]]
file = "worn.img"
model = "Rusty Anchor"
serial = "RA-0004"
speed = "USB 3, 5 Gbit/s"
[drive.faults]
forgets = [[90000000, 64]]

[[drive]]
file = "jittery.img"
model = "Nervous Gull"
serial = "NG-0005"
speed = "USB 3, 5 Gbit/s"
[drive.faults]
fails_writing = [[1048576, 512], [9000000, 512]]
failures = 1

[[drive]]
file = "used.img"
model = "Gangway Pro"
serial = "GP-002-0006"
speed = "USB 3, 5 Gbit/s"
"""

FILES = ("fake.img", "loose.img", "slow.img", "worn.img", "jittery.img", "used.img")


def make_mishaps(folder: Path) -> None:
    """Make the bay in the new folder `folder`; its drives are sparse, and one is full of stale tables."""
    make_folder(folder)
    write_text(folder / DESCRIPTION, _DESCRIPTION)
    for name in FILES:
        with ImageFile.make(folder / name, _SIZE) as drive:
            if name == "used.img":
                old_tables(drive)


def cure(folder: Path, file: str) -> None:
    """Take the faults of one drive out of the description, as when its plug is pushed in properly."""
    place = folder / DESCRIPTION
    document = tomlkit.parse(place.read_text("utf-8"))
    for slot in document["drive"]:
        if slot["file"] == file:
            slot.pop("faults", None)
    place.write_text(tomlkit.dumps(document), "utf-8")
