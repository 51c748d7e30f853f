"""Which editions the install images on a drive hold: some of the source's own, or those of other releases as well."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TypeAlias

from ...common.errors import UsageError
from ...common.units import shown_size
from ...content.tree import File, Folder
from ...sources.source import Source
from ...wim.combining import Wanted, combined, with_sums
from ...wim.named import place_of_named
from ...wim.read import Edition, InstallImage
from ...wim.whole import WholeImage
from ..choices import Choices
from ..family import Decision
from .carried import Change
from .facts import is_rescue
from .portable.editions import chosen_edition, editions_of

_There: TypeAlias = Sequence[tuple[WholeImage, Edition]]
_OLDER = "setup is that of {}, whose languages and drivers it has: what it makes of older releases is not proven here"


def kept_editions(source: Source, root: Folder, choices: Choices) -> Change:
    """Return install images with the editions of `choices.edition`, a list with commas, and of joined sources.

    Raises UsageError for an edition that is not there, where an image would keep none, and for releases that do not go
    together.
    """
    own = editions_of(source)
    if not own:
        raise UsageError("--edition: the source has no editions to keep.", advice="Leave it out.")
    _refuse_newer(source)
    others = _others(source, own)
    wanted = [*own, *others]
    if choices.edition is not None:
        wanted = _chosen(source, wanted, choices.edition)
    files: list[tuple[str, File]] = []
    decisions: list[Decision] = []
    for image in dict.fromkeys(image for image, _ in own):
        kept = list(_for_image(image, wanted, own))
        path = image.first.place
        if not any(other is image for other, _ in kept):
            raise UsageError(
                f"--edition keeps nothing of {path}.", advice="Name an edition of each install image, or none at all."
            )
        if len(kept) == len(image.editions) and all(other is image for other, _ in kept):
            continue
        if len(image.parts) > 1:
            raise UsageError(
                f"{path} is in {len(image.parts)} parts, which are kept as they are: its editions cannot be changed.",
                advice="Leave --edition and --with out, or take a source with the whole image.",
            )
        original = root.find_file(path)
        assert original is not None
        made = combined(list(_grouped(kept)), path)
        content = with_sums(made) if image.first.has_integrity else made.content
        files.append((path, File(original.name, content, original.modified)))
        sizes = f"{shown_size(content.size)} in place of {shown_size(original.size)}"
        decisions.append(_decision(source, made, f"{path}: {{}}", sizes, of=len(own) + len(others)))
    _refuse_left_over(source, wanted, own)
    return Change(tuple(files), tuple(decisions))


def wanted_editions(source: Source, choices: Choices) -> Iterator[list[tuple[WholeImage, Edition]]]:
    """Yield what each install image of a drive holds."""
    own = editions_of(source)
    wanted = [*own, *_others(source, own)]
    if choices.edition is not None:
        wanted = _chosen(source, wanted, choices.edition)
    for image in dict.fromkeys(image for image, _ in own):
        yield list(_for_image(image, wanted, own))


def combined_size(kept: _There, place: str) -> int:
    """Return how many bytes an image of these editions has, but for its integrity table."""
    return combined(list(_grouped(kept)), place).content.size


def _decision(source: Source, made: InstallImage, what: str, sizes: str, *, of: int) -> Decision:
    names = [edition.name for edition in made.editions]
    value = f"{len(names)} of {of} in {what.format(', '.join(names))}"
    reason = f"{sizes}: what only the others need is left out"
    if _installers(source):
        reason = f"{sizes}, each content once; {_OLDER.format(source.path.name)}"
    return Decision("editions", value, reason, "you", "edition")


def _for_image(image: WholeImage, wanted: _There, own: _There) -> Iterator[tuple[WholeImage, Edition]]:
    """Yield what an install image is to hold: editions of its own, and of joined ones those for its architecture."""
    mine = {other for other, _ in own}
    yield from sorted((pair for pair in wanted if pair[0] is image), key=lambda pair: pair[1].index)
    architectures = {edition.architecture for edition in image.editions}
    yield from (pair for pair in wanted if pair[0] not in mine and pair[1].architecture in architectures)


def _grouped(pairs: _There) -> Iterator[Wanted]:
    for image in dict.fromkeys(image for image, _ in pairs):
        yield Wanted(image, [edition for other, edition in pairs if other is image])


def _others(source: Source, own: _There) -> list[tuple[WholeImage, Edition]]:
    """Return the editions of joined sources that are not there yet. Raises UsageError for a source without any."""
    there = {image.sum_of(edition) for image, edition in own}
    found: list[tuple[WholeImage, Edition]] = []
    for each in _installers(source):
        new = [(image, edition) for image, edition in editions_of(each) if image.sum_of(edition) not in there]
        if not new:
            raise UsageError(
                f"--with: {each.path.name} has no edition that is not there already.", advice="Leave it out."
            )
        there |= {image.sum_of(edition) for image, edition in new}
        found += new
    return found


def _installers(source: Source) -> list[Source]:
    return [each for each in source.joined if not is_rescue(each)]


def _refuse_newer(source: Source) -> None:
    newest = max((edition.build for _, edition in editions_of(source)), default=0)
    for each in _installers(source):
        build = max((edition.build for _, edition in editions_of(each)), default=0)
        if build > newest:
            raise UsageError(
                f"--with: {each.path.name} (build {build}) is newer than {source.path.name} (build {newest}), whose "
                "setup the drive would have.",
                advice="Name the newest release first.",
            )


def _refuse_left_over(source: Source, wanted: _There, own: _There) -> None:
    architectures = {edition.architecture for _, edition in own}
    for _, edition in wanted:
        if edition.architecture not in architectures:
            raise UsageError(
                f"--with: {edition.name} is for {edition.architecture}, and {source.path.name} has no setup for that.",
                advice="Build a drive for each architecture.",
            )


def _chosen(source: Source, there: _There, words: str) -> list[tuple[WholeImage, Edition]]:
    """Return the editions that are meant; a name may have a comma itself."""

    def one(word: str) -> tuple[WholeImage, Edition]:
        if not _installers(source):
            return chosen_edition(source, word)
        named = [(str(number), edition) for number, (_, edition) in enumerate(there, 1)]
        return there[place_of_named(named, word, "What is combined")]

    try:
        return [one(words)]
    except UsageError:
        if "," not in words:
            raise
    return list(dict.fromkeys(one(word.strip()) for word in words.split(",") if word.strip()))
