"""Keeps some editions of an installer's install images: the others, and what only they need, are left out."""

from __future__ import annotations

from ...common.errors import UsageError
from ...common.units import shown_size
from ...content.tree import File, Folder
from ...sources.source import Source
from ...wim.combining import Wanted, combined, with_sums
from ...wim.read import Edition
from ...wim.whole import WholeImage
from ..choices import Choices
from ..family import Decision
from .carried import NOTHING, Change
from .portable.editions import chosen_edition, editions_of


def kept_editions(source: Source, root: Folder, choices: Choices) -> Change:
    """Return the images with the editions of `choices.edition`, a list with commas, in the originals' order.

    Raises UsageError for an edition that is not there, and where an image would keep none.
    """
    if choices.edition is None:
        return NOTHING
    if not editions_of(source):
        raise UsageError("--edition: the source has no editions to keep.", advice="Leave it out.")
    wanted = _chosen(source, choices.edition)
    files: list[tuple[str, File]] = []
    decisions: list[Decision] = []
    for image in dict.fromkeys(image for image, _ in editions_of(source)):
        kept = [edition for other, edition in wanted if other is image]
        kept.sort(key=lambda edition: edition.index)
        path = image.first.place
        if not kept:
            raise UsageError(
                f"--edition keeps nothing of {path}.", advice="Name an edition of each install image, or none at all."
            )
        if len(kept) == len(image.editions):
            continue
        if len(image.parts) > 1:
            raise UsageError(
                f"--edition: {path} is in {len(image.parts)} parts, which are kept as they are.",
                advice="Leave it out, or take a source with the whole image.",
            )
        original = root.find_file(path)
        assert original is not None
        made = combined([Wanted(image, kept)], path)
        content = with_sums(made) if image.first.has_integrity else made.content
        files.append((path, File(original.name, content, original.modified)))
        names = ", ".join(edition.name for edition in kept)
        sizes = f"{shown_size(content.size)} in place of {shown_size(original.size)}"
        what = f"{len(kept)} of {len(image.editions)} in {path}: {names}"
        decisions.append(
            Decision("editions", what, f"{sizes}: what only the others need is left out", "you", "edition")
        )
    return Change(tuple(files), tuple(decisions))


def _chosen(source: Source, words: str) -> list[tuple[WholeImage, Edition]]:
    """Return the editions that are meant; a name may have a comma itself."""
    try:
        return [chosen_edition(source, words)]
    except UsageError:
        if "," not in words:
            raise
    found = [chosen_edition(source, word.strip()) for word in words.split(",") if word.strip()]
    return list(dict.fromkeys(found))
