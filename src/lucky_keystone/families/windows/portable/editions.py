"""The editions of a source's install images, and which of them is meant."""

from __future__ import annotations

from functools import lru_cache

from ....errors import SourceError, UsageError
from ....nearest import did_you_mean
from ....sources.source import Source
from ....wim.read import Edition
from ....wim.whole import WholeImage
from ..install_image import images_of


@lru_cache(maxsize=4)
def all_images(source: Source) -> tuple[WholeImage, ...]:
    """Return the install images of a source, the same objects each time."""
    return tuple(images_of(source))


def editions_of(source: Source) -> list[tuple[WholeImage, Edition]]:
    """Return all editions of all install images of a source."""
    return [(image, edition) for image in all_images(source) for edition in image.editions]


def chosen_edition(source: Source, wanted: str | None) -> tuple[WholeImage, Edition]:
    """Return the edition that is meant, by number, name or a part of it. Raises UsageError with a list."""
    there = editions_of(source)
    if not there:
        raise SourceError(f"{source.path}: its install image lists no editions.", advice="Get the image again.")
    listed = ", ".join(f"{edition.index} {edition.name}" for _, edition in there)
    if wanted is None:
        if len(there) == 1:
            return there[0]
        raise UsageError(
            f"--edition is missing: {source.path.name} holds {len(there)} editions.", advice=f"There are: {listed}."
        )
    lower = wanted.lower()
    exact = [each for each in there if wanted == str(each[1].index) or lower == each[1].name.lower()]
    found = exact or [each for each in there if lower and lower in each[1].name.lower()]
    if len(found) != 1:
        why = "has no edition" if not found else "has several editions that fit"
        meant = did_you_mean(wanted, [edition.name for _, edition in there])
        raise UsageError(f"{source.path.name} {why} '{wanted}'.", advice=f"{meant}There are: {listed}.")
    return found[0]


def word_for(source: Source, edition: Edition) -> str:
    """Return what names an edition in a plan: its number, or its name where another image has the same number."""
    same = sum(other.index == edition.index for _, other in editions_of(source))
    return str(edition.index) if same == 1 else edition.name
