"""Finds the install image of a source: in an installer, or an image or its parts on their own."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from ...content import FileRange, seekable
from ...errors import SourceError
from ...fetching.link import Link, Place
from ...fetching.remote import RemoteFile, Terms
from ...setup.folders import SETUP_FOLDERS
from ...source_file import SourceFile
from ...sources.source import INSTALL_IMAGE, Source
from ...wim.read import InstallImage
from ...wim.records import MAGIC
from ...wim.split import part_names
from ...wim.whole import WholeImage

_NAMES = ("install.wim", "install.esd", "install.swm")
_SETUP_NAMES = ("boot.wim",)


def alone(place: Place, terms: Terms | None = None) -> WholeImage | None:
    """Open an install image on its own; the further parts of one are looked for beside it. None for another file."""
    if isinstance(place, Link):
        remote = RemoteFile(place, terms or Terms())
        if remote.size < len(MAGIC) or FileRange(remote, 0, remote.size).read_at(0, len(MAGIC)) != MAGIC:
            return None
        image = InstallImage(FileRange(remote, 0, remote.size), str(place))
        if image.is_part:
            raise SourceError(
                f"{place} is one part of several.", advice="Download all parts into one folder, and name the first."
            )
        return WholeImage([image])
    if not place.is_file():
        return None
    file = SourceFile(place)
    if file.size < len(MAGIC) or FileRange(file, 0, file.size).read_at(0, len(MAGIC)) != MAGIC:
        return None
    first = _opened(place)
    names = part_names(place.name, first.header.part_count) if first.is_part else [place.name]
    return WholeImage([first if name == place.name else _opened(place.with_name(name)) for name in names])


def images_of(source: Source) -> Iterator[WholeImage]:
    """Yield the install images of an installer, parts put together."""
    return _images(source, _NAMES)


def setup_images_of(source: Source) -> Iterator[WholeImage]:
    """Yield the setup environments of an installer."""
    return _images(source, _SETUP_NAMES)


def _images(source: Source, names_there: Sequence[str]) -> Iterator[WholeImage]:
    if source.form == INSTALL_IMAGE:
        parts = [InstallImage(seekable(file.content), name) for name, file in source.root.files()]
        if names_there is _NAMES:
            yield WholeImage(parts)
        return
    for folder in SETUP_FOLDERS:
        for name in names_there:
            path = f"{folder}/{name}"
            file = source.root.find_file(path)
            if file is None:
                continue
            first = InstallImage(seekable(file.content), path)
            names = part_names(name, first.header.part_count) if first.is_part else []
            further = [source.root.find_file(f"{folder}/{part}") for part in names[1:]]
            parts = [InstallImage(seekable(part.content), part.name) for part in further if part is not None]
            yield WholeImage([first, *parts])


def _opened(path: Path) -> InstallImage:
    if not path.exists():
        raise SourceError(f"{path} is missing.", advice="Put all parts of the image into one folder.")
    file = SourceFile(path)
    return InstallImage(FileRange(file, 0, file.size), str(path))
