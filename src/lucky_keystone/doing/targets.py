"""Finding the drive that is meant, holding it back where it must not be written, and opening it."""

from __future__ import annotations

import hashlib
import os
import sys
from collections.abc import Collection, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from ..common.errors import DriveError, KeystoneError, NotYet, ProtectError, UsageError, naming
from ..common.nearest import did_you_mean
from ..common.positional import is_begun
from ..common.shell import command_line
from ..common.units import shown_size
from ..drives.bay import Bay
from ..drives.drive import Drive
from ..drives.guards import Guard, admit
from ..drives.host import Host
from ..drives.image_file import ImageFile
from ..drives.medium import OpenMedium
from ..drives.opening import holds_any, open_confirmed
from ..drives.retrying import Retrying
from ..drives.this_computer import this_host
from ..winapi.names import is_device_name, letter_in, native

if TYPE_CHECKING:
    from ..families.family import DriveShape
    from ..gauging.journal import FileJournal
    from ..shop.shelf import ShopShelf


class Chosen(Struct, frozen=True):
    """A drive as named on the command line.

    One of a host (this computer, a bay), or an image file that may not exist yet.
    """

    path: Path
    host: Host | None
    drive: Drive | None
    sector_size: int

    @property
    def name(self) -> str:
        """Tag or file name."""
        return self.drive.tag if self.drive else self.path.name

    @property
    def exists(self) -> bool:
        """True when there is something that writing would erase."""
        return self.drive is not None or (self.path.exists() and not self._is_empty_file())

    def _is_empty_file(self) -> bool:
        """True for a file that holds nothing: what is left where its making was cut off."""
        return self.path.is_file() and is_begun(self.path)

    @property
    def size(self) -> int:
        """Bytes of a drive that exists."""
        return self.drive.size if self.drive else self.path.stat().st_size

    def shape(self, size: int | None) -> DriveShape:
        """What planning needs to know; `size` (bytes) is for an image file to be made."""
        from ..families.family import DriveShape

        if not self.exists:
            return DriveShape(self.name, size, self.sector_size)
        reading, writing = self._rates()
        return DriveShape(
            self.name,
            self.size,
            self.sector_size,
            is_image_file=self.is_image_file,
            reading=reading,
            writing=writing,
        )

    def _rates(self) -> tuple[int, int]:
        """Return how fast it was read and written when it was measured, in bytes a second; 0: it never was."""
        if self.drive is None:
            return 0, 0
        from ..shop.log import measured

        return measured(self.name, self.drive.serial)

    @property
    def is_image_file(self) -> bool:
        """True for a file standing for a drive, which may not exist yet."""
        return self.drive is None

    @property
    def _lasting_name(self) -> str:
        """What names the drive in whatever port; of an image file its place."""
        drive = self.drive
        return f"{drive.model}|{drive.serial}|{drive.size}" if drive else f"file|{self.path.resolve()}"

    def shelf(self) -> ShopShelf:
        """What this computer keeps for the drive where the drive itself has no room."""
        from ..shop.shelf import ShopShelf

        return ShopShelf(self._lasting_name)

    @property
    def digest(self) -> str:
        """Hexadecimal digits that name the drive in whatever port, for files that are kept of it."""
        return hashlib.sha256(self._lasting_name.encode("utf-8", "surrogateescape")).hexdigest()

    def journal(self) -> FileJournal:
        """What this computer keeps of the drive while marks are on it."""
        from ..common.places import journals
        from ..gauging.journal import FileJournal

        return FileJournal(journals() / f"{self.digest[:24]}.journal")


def host_of(bay: Path | None) -> Host:
    """Return the bay, or this computer."""
    return Bay(bay) if bay is not None else this_host()


_LISTED = 5
"""Drives that are named where one was not found."""


def choose(text: str, bay: Path | None, sector_size: int | None) -> Chosen:
    """Return the drive meant by `text`: a tag of the bay or of this computer, a drive's device, or an image file."""
    with naming(text, DriveError, advice="Check that it is there, and may be used."):
        return _choose(text, bay, sector_size)


def _choose(text: str, bay: Path | None, sector_size: int | None) -> Chosen:
    path = native(text)
    host, drive = _find(text, path, bay)
    if drive is not None:
        if sector_size is not None and sector_size != drive.sector_size:
            raise UsageError(
                f"Drive {drive.tag} has sectors of {drive.sector_size} bytes.", advice="Leave out --sector-size."
            )
        return Chosen(drive.path, host, drive, drive.sector_size)
    if not path.exists() and path.name == text and "." not in text and not is_device_name(text):
        _refuse_bare_name(text, bay)
    _refuse_missing_device(text, path)
    if letter_in(text) and sys.platform == "win32":
        raise UsageError(
            f"{text} is not a drive that can be written.", advice="'lucky-keystone drives' lists the drives."
        )
    if path.is_dir():
        raise UsageError(f"{text} is a folder, not a drive.", advice="Name an image file, or a drive's tag.")
    if not path.parent.is_dir():
        raise UsageError(f"{path.parent} is not a folder.", advice="Make it, or name an image file in another one.")
    return Chosen(path, None, None, sector_size or 512)


def _refuse_bare_name(text: str, bay: Path | None) -> None:
    """Raise for a word that names no drive: an image file of that name would be made, and taken for one."""
    try:
        drives = host_of(bay).drives()
    except KeystoneError:
        drives = ()
    meant = did_you_mean(text, [drive.tag for drive in drives]) if len(text) <= 6 else ""
    once = "Name each drive by itself. " if "," in text else ""
    free = [drive for drive in drives if drive.removable and not drive.holds_system]
    there = "; ".join(f"{each.tag}, {each.model}, {shown_size(each.size)}" for each in free[:_LISTED])
    attached = f"Attached: {there}. " if there else "'lucky-keystone drives' lists the drives. "
    raise UsageError(
        f"There is no drive '{text}'.",
        advice=f"{meant or once}{attached}The name of an image file has an ending or a folder: stick.img, ./stick.",
    )


def _refuse_missing_device(text: str, path: Path) -> None:
    """Raise for a device that is not there: writing to its name would make a file in memory that looks like a drive."""
    place = Path(os.path.realpath(path)) if not is_device_name(text) else path
    in_devices = place.is_relative_to("/dev") and not place.is_relative_to("/dev/shm")  # noqa: S108 - a place for files
    if is_device_name(text) or (in_devices and (not path.exists() or path.is_file())):
        raise UsageError(
            f"There is no device {text}.", advice="'lucky-keystone drives' lists the drives and their tags."
        )


def _find(text: str, path: Path, bay: Path | None) -> tuple[Host | None, Drive | None]:
    is_tag = len(text) == 4 and not path.exists()
    if not is_tag and not _is_device(text, path):
        return None, None
    try:
        host = host_of(bay if is_tag else None)
    except NotYet:
        return None, None
    is_name = is_tag or is_device_name(text) or not path.exists()
    named = (text if is_name else str(path.resolve())).upper()
    found = [drive for drive in host.drives() if _goes_by(drive, named, letter_in(text))]
    if len(found) > 1:
        raise ProtectError(
            f"{len(found)} drives have the tag {named}: same model, serial and size "
            f"({', '.join(str(drive.path) for drive in found)}).",
            advice="Unplug the others; to read one of them, name its device.",
        )
    return (host, found[0]) if found else (None, None)


def _is_device(text: str, path: Path) -> bool:
    if letter_in(text) or is_device_name(text):
        return True
    return path.exists() and not path.is_file() and not path.is_dir()


def _goes_by(drive: Drive, named: str, letter: str) -> bool:
    """Tell whether a drive has this tag or device, in capitals, or a volume with this letter."""
    if named in (drive.tag, str(drive.path).upper(), *(node.upper() for node in drive.nodes)):
        return True
    return bool(letter) and letter in map(letter_in, drive.letters)


def guard(chosen: Chosen, *, needed: int, lifted: Collection[Guard], sources: Collection[Path] = ()) -> None:
    """Raise ProtectError when a guard holds `chosen` back, NoRights or DriveError when this user may not write there.

    A path that is neither a file nor a whole drive is protected too.
    """
    if chosen.host is not None and chosen.drive is not None:
        at_source = holds_any(chosen.host, chosen.drive, sources)
        admit(chosen.drive, chosen.host.drives(), needed=needed, lifted=lifted, holds_source=at_source)
    elif chosen.exists and not chosen.path.is_file():
        raise ProtectError(
            f"{chosen.path} is neither a whole drive nor an image file.",
            advice="Name a drive by its tag: 'lucky-keystone drives' lists them.",
        )
    _try(chosen)


def _try(chosen: Chosen) -> None:
    """Raise where writing will not be permitted, before anything is read, planned or asked."""
    if chosen.drive is not None:
        with reading(chosen):  # systems give both permissions or none
            return
    place = chosen.path if chosen.path.exists() else chosen.path.parent
    if not os.access(place, os.W_OK):
        raise DriveError(
            f"{chosen.path}: permission to write {'it' if place == chosen.path else f'into {place}'} is denied.",
            advice="Choose another file, or a folder of your own.",
        )


def existing(text: str, bay: Path | None, sector_size: int | None = None) -> Chosen:
    """Return the drive meant by `text`, which must be there."""
    chosen = choose(text, bay, sector_size)
    if not chosen.exists:
        raise UsageError(f"{text} does not exist.", advice="Name an image file, or a tag.")
    return chosen


def finished(text: str, bay: Path | None, sector_size: int | None = None) -> Chosen:
    """Return the drive meant by `text`, which is to be looked at as a drive.

    Raises UsageError for an installer's image, which people take for the drive that is made of it.
    """
    chosen = existing(text, bay, sector_size)
    if not chosen.is_image_file or not _is_disc_image(chosen):
        return chosen
    line = command_line(["inspect", str(chosen.path), "--verify-source"])
    raise UsageError(
        f"{chosen.name} is a disc image, and no drive.", advice=f"To see what it is, and whether it is whole: {line}"
    )


def _is_disc_image(chosen: Chosen) -> bool:
    """True where nothing shows that it was built here, byte for byte."""
    from ..drives.contents import is_bare_disc
    from ..manifest.format import read_manifest

    with suppress(KeystoneError), reading(chosen) as medium:
        if medium.size >= 512 and is_bare_disc(medium):
            return chosen.shelf().get() is None and read_manifest(medium, chosen.sector_size) is None
    return False


@contextmanager
def reading(chosen: Chosen) -> Iterator[Retrying]:
    """Open a drive or image file for reading; failures that may pass are tried again."""
    opened: OpenMedium = (
        chosen.host.open(chosen.drive, write=False) if chosen.host and chosen.drive else ImageFile(chosen.path)
    )
    medium = Retrying(opened)
    try:
        yield medium
    finally:
        medium.close()


def open_for_writing(
    chosen: Chosen,
    size: int,
    needed: int,
    *,
    lifted: Collection[Guard],
    sources: Collection[Path] = (),
    stored: int | None = None,
) -> Retrying:
    """Open the confirmed drive for writing, its guards held once more; make the image file when there is none.

    `stored` are the bytes of a new image file that will be written.
    """
    if chosen.host is not None and chosen.drive is not None:
        return Retrying(open_confirmed(chosen.host, chosen.drive, needed=needed, lifted=lifted, sources=sources))
    if chosen.exists:
        return Retrying(ImageFile(chosen.path, write=True))
    return Retrying(ImageFile.make(chosen.path, size, stored))


def contents_of(chosen: Chosen) -> str:
    """What is on a drive: as the system reports it, else from its own bytes where they may be read."""
    from ..drives.contents import describe
    from ..manifest.unfinished import read_unfinished

    words = chosen.drive.volumes if chosen.drive is not None else ()
    if any(not volume.startswith("not known") for volume in words):
        return ", ".join(words)
    try:
        with reading(chosen) as medium:
            unfinished = read_unfinished(medium, chosen.sector_size)
            return unfinished.shown if unfinished else describe(medium, chosen.sector_size)
    except KeystoneError as error:
        return ", ".join(words) or f"not known ({error.message.rstrip('.')})"
