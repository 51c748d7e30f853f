"""The store: images by their sums, one download for many drives. Nothing in it is ever deleted without being asked.

by-sum/ab/abcd…/NAME           the image
by-sum/ab/abcd…/about.json     what is known of it
arriving/NAME.unfinished       one that is on its way
"""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

import msgspec
from msgspec import Struct

from ..common import places
from ..common.errors import DriveError, SourceError, UsageError, naming
from ..common.invoker import give_to_user, make_folder
from ..common.notes import note
from ..common.positional import rename
from ..common.progress import Progress, silent
from .answers import harmless
from .part import free_name
from .summing import file_sum

_ABOUT = "about.json"
_LARGEST_ABOUT = 1 << 20
_SHORTEST = 6
"""Digits of a sum that name an image."""
_BELIEVED = timedelta(days=90)
_DAMAGED = "damaged-"
_FILE_MANAGERS = ("thumbs.db", "desktop.ini")


class ImageNote(msgspec.Struct, frozen=True, kw_only=True):
    """What is known of an image."""

    name: str
    size: int
    proven: bool = False
    """True where its sum was known before it came."""
    origin: str = ""
    """Scheme, server and path of the link."""
    words: str = ""
    """What it is, where a catalogue said it."""
    fetched: str = ""
    used: str = ""
    checked: str = ""
    """When it was last compared with its sum; moments in UTC, ISO 8601."""
    modified: int = 0
    """Nanoseconds: the file's time when it was compared."""


class StoredImage(Struct, frozen=True):
    """An image of the store."""

    sha256: str
    path: Path
    about: ImageNote

    @property
    def is_believed(self) -> bool:
        """True while nothing speaks against the last comparison with its sum."""
        with suppress(OSError, ValueError):
            facts = self.path.stat()
            age = datetime.now(UTC) - datetime.fromisoformat(self.about.checked)
            seen = (facts.st_size, facts.st_mtime_ns)
            return seen == (self.about.size, self.about.modified) and timedelta() <= age < _BELIEVED
        return False


class Store:
    """A folder of images."""

    def __init__(self, folder: Path | None = None) -> None:
        """`folder` is the usual one, or the one that the environment names, when it is None."""
        self.folder = folder or places.images()

    def images(self) -> list[StoredImage]:
        """Return all images, those used last first."""
        with naming(str(self.folder), DriveError):
            found = [image for place in self.folder.glob("by-sum/??/*") if (image := _read(place)) is not None]
        return sorted(found, key=lambda image: (image.about.used, image.about.name), reverse=True)

    def by_sum(self, sha256: str) -> StoredImage | None:
        """Return the image with this sum."""
        return _read(self._place(sha256)) if sha256 else None

    def find(self, text: str) -> StoredImage | None:
        """Return the image that is meant by a name, or by the first digits of a sum. Raises UsageError for several."""
        images = self.images()
        found = [image for image in images if image.about.name == text]
        if not found and len(text) >= _SHORTEST:
            found = [image for image in images if image.sha256.startswith(text.lower())]
        if len(found) > 1:
            sums = ", ".join(image.sha256[:12] for image in found)
            raise UsageError(f"Several downloaded images are called {text}.", advice=f"Name it by its sum: {sums}.")
        return found[0] if found else None

    def holding(self, path: Path) -> StoredImage | None:
        """Return the image whose file this is; None for a file elsewhere."""
        place = path.parent
        if len(path.parts) < 4 or place.parent.parent != self.folder / "by-sum":
            return None
        image = _read(place)
        return image if image is not None and image.path == path else None

    def arriving(self, name: str) -> Path:
        """Return where an image is put while it comes. Raises DriveError where there is no place for it.

        One that is whole there, since an earlier run was cut off just then, is taken in.
        """
        path = self.folder / "arriving" / name
        with naming(str(self.folder), DriveError, advice=f"Name another folder with {places.IMAGES}."):
            make_folder(path.parent)
            if path.is_file() and not path.is_symlink():
                with path.open("rb") as stream:
                    sha256 = hashlib.file_digest(stream, "sha256").hexdigest()
                self.take_in(path, sha256, ImageNote(name=name, size=path.stat().st_size))
        return path

    def take_in(self, path: Path, sha256: str, about: ImageNote) -> StoredImage:
        """Move a whole image, which has this sum, into the store. Raises DriveError."""
        place = self._place(sha256)
        with naming(str(self.folder), DriveError, advice=f"Name another folder with {places.IMAGES}."):
            make_folder(place)
            if (known := _read(place)) is not None:
                if known.is_believed or file_sum(known.path, silent) == sha256:
                    path.unlink()
                    return known
                rename(known.path, free_name(known.path.with_name(_DAMAGED + known.path.name)), replace=False)
            target = free_name(place / about.name)
            about = msgspec.structs.replace(about, name=target.name)
            path.chmod(stat.S_IRUSR | stat.S_IRGRP | stat.S_IROTH)
            modified, moment = path.stat().st_mtime_ns, now()
            rename(path, target, replace=False)
            about = msgspec.structs.replace(about, fetched=moment, used=moment, checked=moment, modified=modified)
            try:
                _write(place, about)
            except OSError as error:
                note(f"The details of {about.name} could not be saved: {error.strerror}.")
        return StoredImage(sha256, target, about)

    def use(self, path: Path, progress: Progress) -> None:
        """Make sure that a file, if it is an image of the store, has its sum, and note that it is used."""
        image = self.holding(path)
        if image is not None:
            if not image.is_believed:
                self.verify(image, progress)
            self.used(image)

    def used(self, image: StoredImage) -> None:
        """Note that it is used. A failure to note it is ignored."""
        with suppress(OSError):
            _write(image.path.parent, msgspec.structs.replace(image.about, used=now()))

    def verify(self, image: StoredImage, progress: Progress) -> str:
        """Compare an image with its sum; return why its date could not be saved, '' when it was.

        Raises SourceError where it is damaged.
        """
        with naming(str(image.path), SourceError):
            facts = image.path.stat()
        found = file_sum(image.path, progress)
        if found != image.sha256:
            raise SourceError(
                f"The downloaded image {image.about.name} is damaged: its SHA-256 is {found}, not {image.sha256}.",
                advice=f"Remove it with: lucky-keystone images --forget {image.sha256[:12]}, and fetch it again.",
            )
        about = msgspec.structs.replace(image.about, checked=now(), modified=facts.st_mtime_ns, size=facts.st_size)
        try:
            _write(image.path.parent, about)
        except OSError as error:
            return f"{image.about.name} is right; the date of this check could not be saved: {error.strerror}."
        return ""

    def forget(self, image: StoredImage) -> None:
        """Delete an image, and nothing else that somebody has put beside it. Raises DriveError."""
        place = image.path.parent
        with naming(str(place), DriveError):
            image.path.chmod(stat.S_IRUSR | stat.S_IWUSR)
            image.path.unlink()
            (place / _ABOUT).unlink(missing_ok=True)
            with suppress(OSError):
                place.rmdir()
                place.parent.rmdir()

    def _place(self, sha256: str) -> Path:
        return self.folder / "by-sum" / sha256[:2] / sha256


def now() -> str:
    """Return the moment as the store keeps it."""
    return datetime.now(UTC).isoformat(timespec="seconds")


def _read(place: Path) -> StoredImage | None:
    """Return what a folder of the store holds; what is known of it may be lost, the image counts.

    File managers leave files of their own beside it.
    """
    if len(place.name) != 64:
        return None
    try:
        with (place / _ABOUT).open("rb") as stream:
            about = msgspec.json.decode(stream.read(_LARGEST_ABOUT), type=ImageNote)
    except (OSError, msgspec.DecodeError, UnicodeDecodeError):
        about = None
    files = {path.name: path for path in _files(place)}
    path = files.get(about.name) if about is not None else None
    if path is None:
        path = max(files.values(), key=lambda each: (each.stat().st_size, each.name), default=None)
    if path is None:
        return None
    if about is None:
        about = ImageNote(name=path.name, size=path.stat().st_size)
    about = msgspec.structs.replace(about, name=path.name, words=harmless(about.words))
    return StoredImage(place.name, path, about)


def _files(place: Path) -> Iterator[Path]:
    with suppress(OSError):
        for path in place.iterdir():
            is_other = path.name.startswith((_ABOUT, _DAMAGED, ".")) or path.name.lower() in _FILE_MANAGERS
            if not is_other and path.is_file():
                yield path


def _write(place: Path, about: ImageNote) -> None:
    beside = place / f"{_ABOUT}.{os.getpid()}"
    try:
        beside.write_bytes(msgspec.json.format(msgspec.json.encode(about), indent=1))
        give_to_user(beside)
        rename(beside, place / _ABOUT, replace=True)
    except OSError:
        with suppress(OSError):
            beside.unlink()
        raise
