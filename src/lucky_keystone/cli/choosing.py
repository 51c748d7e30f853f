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
    from collections.abc import Mapping, Sequence

    from ..families.choices import Choices
    from ..fetching.catalogue import AnyOffer, Catalogue, CatalogueImage, Offer
    from ..fetching.client import Client
    from ..fetching.link import Place
    from ..sources.source import Source

LISTED = 40


def read_bytes(place: Place, client: Client) -> bytes:
    """Return the bytes of a catalogue. Raises UsageError and SourceError."""
    from ..fetching.catalogue import catalogue_bytes
    from ..fetching.small import fetch_small

    return catalogue_bytes(place) if isinstance(place, Path) else fetch_small(place, client)


def parsed(place: Place, data: bytes) -> Catalogue:
    """Read a catalogue's bytes, and tell what was not understood. Raises UsageError."""
    from ..fetching.catalogue import parse_catalogue

    found = parse_catalogue(data, str(place), is_local=isinstance(place, Path))
    tell_notes(found.notes)
    return found


def tell_notes(notes: Sequence[str]) -> None:
    """Tell what was not understood of a catalogue."""
    for note in notes:
        paragraph(console(err=True), f"Note: {note}", style="warn")


def read_all(places: Sequence[Place], client: Client) -> list[Catalogue]:
    """Read catalogues from this computer and from servers. Raises UsageError and SourceError."""
    return [parsed(place, read_bytes(place, client)) for place in places]


def matching_offers(images: Sequence[AnyOffer], wanted: dict[str, str]) -> list[AnyOffer]:
    """Return the images, or releases, that match, the newest first. Raises SourceError where there is none."""
    from ..fetching.catalogue import matching

    found = matching(images, wanted)
    if not found:
        asked = ", ".join(f"{name} {value}" for name, value in wanted.items())
        there = "; ".join(image.words for image in images[:LISTED]) or "none"
        raise SourceError(
            f"No image of the catalogue has {asked}." if asked else "The catalogue has no images.",
            advice=f"Its images: {there}.",
        )
    return found


def choose_offer(images: Sequence[AnyOffer], wanted: dict[str, str]) -> AnyOffer:
    """Return the one image, or release, that matches; what is still open is asked for in a terminal.

    Raises SourceError where there is none, UsageError with a list where there are several and nobody to ask.
    """
    found = matching_offers(images, wanted)
    if len(found) == 1:
        return found[0]
    if not can_ask():
        listed = "; ".join(f"{image.file} ({image.words})" for image in found[:LISTED])
        raise UsageError(
            f"{len(found)} catalogue images match.",
            advice=f"Narrow it down with --release, --build, --edition, --language or --architecture: {listed}.",
        )
    return _asked(found)


def show_offers(found: Sequence[Offer], further: Mapping[str, Sequence[str]] | None = None) -> None:
    """Print what a catalogue has, numbered, with `further` columns by their headings."""
    more = further or {}
    heads = ("No.", "Release", "Version", "Build", "Language", "Architecture", "Editions", "Date", *more, "Size")
    rows = [
        (
            *(str(number), image.title, image.release if image.release != image.title else "", image.build),
            *(image.language, image.architecture),
            *(", ".join(image.editions), image.posted, *(column[number - 1] for column in more.values())),
            shown_size(image.size),
        )
        for number, image in enumerate(found, 1)
    ]
    columns = [Column(head, right=head in ("No.", "Size"), folds=head == "Editions") for head in heads]
    table(console(), columns, rows)


def _asked(found: Sequence[AnyOffer]) -> AnyOffer:
    show_offers(found)
    console().print()
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
