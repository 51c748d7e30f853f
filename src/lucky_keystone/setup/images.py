"""Whether an install image can be whole, with the parts it belongs to: what tables tell, without reading contents."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from ..common.errors import KeystoneError
from ..content.contents import Seekable
from ..wim.read import InstallImage
from ..wim.split import part_names

INSTALL_IMAGES = ("install.wim", "install.esd", "install.swm")
"""Names that setup installs from, in the folder of its setup environment."""


SETUP_MARKS = ("setup.exe", "sources/setup.exe", "sources/lang.ini", "sources/ei.cfg", "sources/install2.swm")
"""Files that only a disc has that installs from its own install image."""


def image_damage(image: InstallImage, path: str, find: Callable[[str], Seekable | None]) -> Iterator[str]:
    """Yield what is wrong with an install image's tables, or with the set of parts it belongs to.

    `path` is where it lies; `find` returns the bytes of another file there, None where there is none.
    """
    try:
        image.refuse_broken_tables()
    except KeystoneError as error:
        yield error.message
        return
    if image.is_part:
        yield from _missing_parts(image, path, find)


def _missing_parts(image: InstallImage, path: str, find: Callable[[str], Seekable | None]) -> Iterator[str]:
    folder, _, name = path.rpartition("/")
    if image.header.part_number != 1:
        number, count = image.header.part_number, image.header.part_count
        yield f"{path} is part {number} of {count}; the first part is expected there."
        return
    for number, part in enumerate(part_names(name, image.header.part_count)[1:], 2):
        place = f"{folder}/{part}"
        content = find(place)
        if content is None:
            yield f"{place} is missing: {path} has {image.header.part_count} parts."
            continue
        try:
            found = InstallImage(content, place)
            found.refuse_broken_tables()
        except KeystoneError as error:
            yield error.message
            continue
        if (found.header.guid, found.header.part_number) != (image.header.guid, number):
            yield f"{place} is not part {number} of {path}: it belongs to another image."
