"""Whether a Windows source can be whole: what its tables tell, without reading its contents."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from ...content import seekable
from ...errors import SourceError
from ...starting.pe import REMOVABLE_LOADERS
from ...tree import File, Folder
from ...wim.read import InstallImage
from ...wim.split import part_names

_LOADERS = ("bootmgr", *(f"efi/boot/{name}" for name in REMOVABLE_LOADERS.values()))
_BLANK = 4096
"""Bytes in front of a loader that are never all zero."""
_SETUP_MARKS = ("setup.exe", "sources/setup.exe", "sources/lang.ini", "sources/ei.cfg", "sources/install2.swm")
"""Files that only a disc has that installs from its own install image."""


def is_installer(root: Folder) -> bool:
    """Tell whether the files around the setup environment are an installer's, which has an install image."""
    return any(root.find_file(path) for path in _SETUP_MARKS)


def image_damage(image: InstallImage, path: str, root: Folder) -> Iterator[str]:
    """Yield what is wrong with an install image's tables, or with the set of parts it belongs to."""
    try:
        image.refuse_broken_tables()
    except SourceError as error:
        yield error.message
        return
    if image.is_part:
        yield from _missing_parts(image, path, root)


def _missing_parts(image: InstallImage, path: str, root: Folder) -> Iterator[str]:
    folder, _, name = path.rpartition("/")
    if image.header.part_number != 1:
        number, count = image.header.part_number, image.header.part_count
        yield f"{path} is part {number} of {count}; the first part is expected there."
        return
    for number, part in enumerate(part_names(name, image.header.part_count)[1:], 2):
        place = f"{folder}/{part}"
        file = root.find_file(place)
        if file is None:
            yield f"{place} is missing: {path} has {image.header.part_count} parts."
            continue
        try:
            found = InstallImage(seekable(file.content), place)
            found.refuse_broken_tables()
        except SourceError as error:
            yield error.message
            continue
        if (found.header.guid, found.header.part_number) != (image.header.guid, number):
            yield f"{place} is not part {number} of {path}: it belongs to another image."


def blank_loaders(root: Folder) -> Iterable[str]:
    """Return what is wrong with loaders that hold nothing where a program begins."""
    for path in _LOADERS:
        file = root.find_file(path)
        if isinstance(file, File) and _is_blank(file):
            yield f"{path} holds only zeros where a program begins."


def _is_blank(file: File) -> bool:
    size = min(file.size, _BLANK)
    return not size or not any(seekable(file.content).read_at(0, size))
