"""What could be left out of a Windows drive that does not fit: an edition, a rescue disc, a disc's architecture."""

from __future__ import annotations

from collections.abc import Iterator

from ...common.errors import KeystoneError, Share
from ...sources.source import Source
from ...wim.whole import WholeImage
from ..choices import Choices
from .both_architectures import architectures_of
from .facts import is_rescue
from .kept_editions import combined_size, wanted_editions
from .portable.editions import editions_of


def shares_of(source: Source, choices: Choices) -> list[Share]:
    """Return the parts of a drive, each with the bytes that are free when it alone is left out."""
    found = list(_editions(source, choices))
    for each in source.joined:
        if is_rescue(each):
            found.append(Share(each.path.name, "", _size(each, "boot.sdi", "boot.wim")))
    found += [Share(each.path.name, "", _size(each)) for each in source.merged]
    return found or [Share(source.path.name, "", _size(source))]


def _editions(source: Source, choices: Choices) -> Iterator[Share]:
    """Yield the editions of install images that have several."""
    try:
        for kept in wanted_editions(source, choices):
            place = kept[0][0].first.place if kept else ""
            whole = combined_size(kept, place) if len(kept) > 1 else 0
            for number, (image, edition) in enumerate(kept if len(kept) > 1 else ()):
                rest = [*kept[:number], *kept[number + 1 :]]
                yield Share(_owner(source, image).path.name, edition.name, whole - combined_size(rest, place))
    except KeystoneError:  # parts that stay as they are, or images that are packed in different ways
        return


def _owner(source: Source, image: WholeImage) -> Source:
    """Return the source that brought an image: one that was joined, or whose folder the image lies in."""
    for each in source.joined:
        if any(other is image for other, _ in editions_of(each)):
            return each
    folder = image.first.place.partition("/")[0]
    return next((each for each in source.merged if folder in architectures_of(each)), source)


def _size(source: Source, *names: str) -> int:
    files = [file for _, file in source.root.files() if not names or file.name.lower() in names]
    return sum(file.size for file in files)
