"""An image of a catalogue, or an edition of an image: narrowed down by options, or asked for in a terminal."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.errors import SourceError, UsageError
from ..common.units import exact_size, shown_size
from .question import ask, can_ask
from .show import Column, console, paragraph, table

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..families.choices import Choices
    from ..fetching.catalogue import Catalogue, CatalogueImage
    from ..fetching.client import Client
    from ..fetching.link import Place
    from ..sources.source import Source

LISTED = 40


def read_all(places: Sequence[Place], client: Client) -> list[Catalogue]:
    """Read catalogues from this computer and from servers. Raises UsageError and SourceError."""
    from ..fetching.catalogue import parse_catalogue, read_catalogue
    from ..fetching.small import fetch_small

    found: list[Catalogue] = []
    for place in places:
        if isinstance(place, Path):
            found.append(read_catalogue(place))
        else:
            found.append(parse_catalogue(fetch_small(place, client), place.shown, is_local=False))
        for note in found[-1].notes:
            paragraph(console(err=True), f"Note: {note}", style="warn")
    return found


def choose_image(catalogues: Sequence[Catalogue], wanted: dict[str, str]) -> CatalogueImage:
    """Return the one image that matches; what is still open is asked for in a terminal.

    Raises SourceError where there is none, UsageError with a list where there are several and nobody to ask.
    """
    from ..fetching.catalogue import joined, matching

    images = joined(catalogues)
    found = matching(images, wanted)
    if not found:
        asked = ", ".join(f"{name} {value}" for name, value in wanted.items())
        there = "; ".join(image.words for image in images[:LISTED]) or "none"
        raise SourceError(
            f"No image of the catalogue has {asked}." if asked else "The catalogue has no images.",
            advice=f"Its images: {there}.",
        )
    if len(found) == 1:
        return found[0]
    if not can_ask():
        listed = "; ".join(f"{image.file} ({image.words})" for image in found[:LISTED])
        raise UsageError(
            f"{len(found)} catalogue images match.",
            advice=f"Narrow it down with --release, --build, --edition, --language or --architecture: {listed}.",
        )
    return _asked(found)


def _asked(found: Sequence[CatalogueImage]) -> CatalogueImage:
    out = console()
    rows = [
        (
            str(number),
            image.release,
            image.build,
            image.language,
            image.architecture,
            ", ".join(image.editions),
            shown_size(image.size),
        )
        for number, image in enumerate(found, 1)
    ]
    columns = [Column("No.", right=True), Column("Release"), Column("Build"), Column("Language")]
    table(
        out,
        [*columns, Column("Architecture"), Column("Editions", folds=True), Column("Size", right=True)],
        rows,
    )
    out.print()
    return found[_number_asked(f"Which one? (1 to {len(found)}", len(found)) - 1]


def answered(source: Source, choices: Choices) -> Choices:
    """Return choices with what the source's family wants to have chosen, asked for where somebody can be asked."""
    from ..families.families import family_for

    if not can_ask() or (asked := family_for(source, choices).question(source, choices)) is None:
        return choices
    out = console()
    first, *others = asked.heads
    columns = [Column("No.", right=True), Column(first, folds=True), *map(Column, others)]
    table(out, columns, [(str(number), *row) for number, row in enumerate(asked.rows, 1)])
    out.print()
    most = len(asked.answers)
    return asked.answers[_number_asked(f"{asked.words} (1 to {most}", most) - 1]


def _number_asked(question: str, most: int) -> int:
    while True:
        answer = ask(f"{question}, q: quit)")
        if answer.lower() == "q":
            raise click.Abort
        if re.fullmatch(r"[0-9]{1,6}", answer) and 1 <= int(answer) <= most:
            return int(answer)
        console().print(f"'{answer}' is not one of the numbers.", style="bad")


def refuse_other_sum(image: CatalogueImage, sha256: str | None) -> None:
    """Raise UsageError where another sum was given than the catalogue names."""
    if sha256 is not None and sha256 != image.sha256:
        raise UsageError(f"The catalogue names another SHA-256 for {image.file}.", advice="Leave out --sha256.")


def refuse_without_links(image: CatalogueImage) -> None:
    """Raise SourceError for an image that only a person can get."""
    if not image.urls:
        where = f"Get a link at {image.page}, and give it beside --catalogue." if image.page else ""
        raise SourceError(
            f"The catalogue has no link for {image.file}, {exact_size(image.size)}.",
            advice=where or "Ask whoever keeps the catalogue.",
        )
