"""The editions of a source's install images, and which of them is meant."""

from __future__ import annotations

from collections import Counter

from ....common.errors import SourceError, UsageError
from ....common.remembering import remembered
from ....sources.source import Source
from ....wim.named import place_of_named, shown_list
from ....wim.read import Edition
from ....wim.whole import WholeImage
from ..install_image import images_of


@remembered
def all_images(source: Source) -> tuple[WholeImage, ...]:
    """Return the install images of a source, the same objects each time."""
    return tuple(images_of(source))


def editions_of(source: Source) -> list[tuple[WholeImage, Edition]]:
    """Return all editions of all install images of a source."""
    return [(image, edition) for image in all_images(source) for edition in image.editions]


def words_of(source: Source) -> list[str]:
    """Return the word that names each edition of `editions_of`, and no other one.

    Its number; its name where several images have that number; the folder of its image and the number where they have
    that name as well, as on a disc for two architectures; at last its image's path and the number.
    """
    there = editions_of(source)
    numbers = Counter(edition.index for _, edition in there)
    names = Counter(edition.name.lower() for _, edition in there)
    in_folders = Counter(_in_folder(image, edition) for image, edition in there)

    def word(image: WholeImage, edition: Edition) -> str:
        if numbers[edition.index] == 1:
            return str(edition.index)
        if edition.name and names[edition.name.lower()] == 1:
            return edition.name
        short = _in_folder(image, edition)
        return short if in_folders[short] == 1 else f"{image.first.place}/{edition.index}"

    return [word(image, edition) for image, edition in there]


def _in_folder(image: WholeImage, edition: Edition) -> str:
    return f"{image.first.place.partition('/')[0]}/{edition.index}"


def word_for(source: Source, image: WholeImage, edition: Edition) -> str:
    """Return what names an edition of an image, in a plan say."""
    return words_of(source)[editions_of(source).index((image, edition))]


def chosen_edition(source: Source, wanted: str | None) -> tuple[WholeImage, Edition]:
    """Return the edition that is meant, by its word, number, name or a part of it. Raises UsageError with a list."""
    there, words = editions_of(source), words_of(source)
    if not there:
        raise SourceError(f"{source.path}: its install image lists no editions.", advice="Get the image again.")
    named = [(word, edition) for word, (_, edition) in zip(words, there, strict=True)]
    if wanted is None:
        if len(there) == 1:
            return there[0]
        raise UsageError(
            f"--edition is missing: {source.path.name} holds {len(there)} editions.",
            advice=f"There are: {shown_list(named)}.",
        )
    return there[place_of_named(named, wanted, source.path.name)]
