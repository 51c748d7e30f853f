"""Finds the install image of a source: in an installer, or an image or its parts on their own."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ...common.errors import SourceError
from ...content.contents import seekable
from ...setup.folders import SETUP_FOLDERS
from ...sources.source import INSTALL_IMAGE, Source
from ...wim.read import InstallImage
from ...wim.split import part_names
from ...wim.whole import WholeImage

_NAMES = ("install.wim", "install.esd", "install.swm")
_SETUP_NAMES = ("boot.wim",)


def images_of(source: Source) -> Iterator[WholeImage]:
    """Yield the install images of an installer, parts put together."""
    return _images(source, _NAMES)


def setup_images_of(source: Source) -> Iterator[WholeImage]:
    """Yield the setup environments of an installer."""
    return _images(source, _SETUP_NAMES)


def _images(source: Source, names_there: Sequence[str]) -> Iterator[WholeImage]:
    if source.form == INSTALL_IMAGE:
        if names_there is _NAMES:
            yield _alone(source)
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


def _alone(source: Source) -> WholeImage:
    """Return a source that is an install image, or all parts of one. Raises SourceError for a part that is missing."""
    (_, file), *further = source.root.files()
    first = InstallImage(seekable(file.content), str(source.path))
    there = dict(further)
    names = part_names(source.path.name, first.header.part_count)[1:] if first.is_part else []
    missing = next((name for name in names if name not in there), None)
    if missing is not None:
        raise SourceError(f"{missing} is missing.", advice="Put all parts of the image into one folder.")
    return WholeImage([first, *(InstallImage(seekable(there[name].content), name) for name in names)])
