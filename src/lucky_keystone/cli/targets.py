"""Finding the drive that is meant, and asking before it is erased."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..drives.attached import attached
from ..drives.bay import confirm_unchanged, find
from ..drives.drive import Drive
from ..drives.image_file import ImageFile, refuse_devices
from ..errors import ProtectError, UsageError
from ..units import exact_size

if TYPE_CHECKING:
    from ..planning.plan import DriveShape


@dataclass(frozen=True)
class Chosen:
    """A drive as named on the command line: a drive of the bay, or an image file that may not exist yet."""

    path: Path
    bay: Path | None
    drive: Drive | None
    sector_size: int

    @property
    def name(self) -> str:
        """Tag or file name."""
        return self.drive.tag if self.drive else self.path.name

    @property
    def exists(self) -> bool:
        """True when there is something that building would erase."""
        return self.path.exists()

    def shape(self, size: int | None) -> DriveShape:
        """What planning needs to know; `size` (bytes) is for an image file to be made."""
        from ..planning.plan import DriveShape

        known = self.path.stat().st_size if self.exists else size
        return DriveShape(self.name, known, self.sector_size)


def choose(text: str, bay: Path | None, sector_size: int | None) -> Chosen:
    """Return the drive meant by `text`: a tag of the bay or of this computer, or a path."""
    drive = _by_tag(text, bay) if len(text) == 4 and not Path(text).exists() else None
    if drive is not None:
        if sector_size is not None and sector_size != drive.sector_size:
            raise UsageError(f"Drive {drive.tag} has sectors of {drive.sector_size} bytes.", advice="Leave out --sector-size.")
        return Chosen(drive.path, bay, drive, drive.sector_size)
    path = Path(text)
    if len(text) == 4 and not path.exists() and "." not in text:
        raise UsageError(
            f"No drive has the tag {text}.", advice="'lucky-keystone drives' lists the tags, with --bay FOLDER those of a bay."
        )
    return Chosen(path, None, None, sector_size or 512)


def _by_tag(tag: str, bay: Path | None) -> Drive | None:
    if bay is not None:
        return find(bay, tag)
    return next((drive for drive in attached() if drive.tag == tag.upper()), None) if sys.platform == "linux" else None


def writable(chosen: Chosen) -> Chosen:
    """Return `chosen`, or raise NotYet when it is a real drive: this version writes image files and bays only."""
    refuse_devices(chosen.path)
    return chosen


def existing(text: str, bay: Path | None) -> Chosen:
    """Return the drive meant by `text`, which must be there."""
    chosen = choose(text, bay, None)
    if not chosen.exists:
        raise UsageError(f"{text} does not exist.", advice="Name an image file, or a tag.")
    return chosen


def confirm(chosen: Chosen, *, yes: bool, needed: int) -> None:
    """Make sure that `chosen` may be erased. Raises ProtectError unless its tag or file name was typed, or `yes`."""
    if chosen.bay is not None and chosen.drive is not None:
        confirm_unchanged(chosen.bay, chosen.drive, needed)
    if not chosen.exists or yes:
        return
    what = f"{chosen.drive.model}, {exact_size(chosen.drive.size)}" if chosen.drive else exact_size(chosen.path.stat().st_size)
    if not sys.stdin.isatty():
        raise ProtectError(
            f"{chosen.name} ({what}) would be erased, and nobody can be asked here.", advice="Add --yes when that is what you want."
        )
    click.echo(f"\nEverything on {chosen.name} ({what}) will be erased.", err=True)
    typed = click.prompt(f"Type {chosen.name} to go on", default="", show_default=False, err=True)
    if typed.strip().upper() != chosen.name.upper():
        raise ProtectError("That is not its name; nothing was written.", advice="Run the command again when you are sure.")


def open_for_writing(chosen: Chosen, size: int, needed: int) -> ImageFile:
    """Open the confirmed drive for writing; make the image file when there is none. A bay's drive is looked at again."""
    if chosen.bay is not None and chosen.drive is not None:
        confirm_unchanged(chosen.bay, chosen.drive, needed)
    return ImageFile(chosen.path, write=True) if chosen.exists else ImageFile.make(chosen.path, size)
