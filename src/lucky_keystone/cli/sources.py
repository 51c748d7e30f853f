"""Where a source is read from: a path, the store, a link, what a catalogue says of one; opened, and proven as asked."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from ..common.errors import SourceError
from .choosing import LISTED, read_all, refuse_other_sum, refuse_without_links
from .options import terms_of
from .stages import Stages

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..doing.given import GivenSource
    from ..fetching.catalogue import CatalogueImage
    from ..fetching.link import Place
    from ..fetching.remote import Terms
    from ..sources.source import Source


def resolved(place: Place, given: GivenSource, bay: Path | None) -> tuple[Place, Terms]:
    """Return where a source is read from, and how.

    Of a catalogue's image, by its name or a link to it, sums are known, and where it is available. One that the store
    has, by its sum, is taken from there.
    """
    terms = terms_of(given.sha256, given.authority, bay)
    if given.catalogues:
        image = _named(place, given.catalogues, given.authority)
        refuse_other_sum(image, given.sha256)
        terms = replace(terms, sha256=image.sha256, blocks=image.blocks)
        if isinstance(place, Path) and not place.exists():
            refuse_without_links(image)
            place = image.links[0]
    if isinstance(place, Path) or not terms.sha256:
        return place, terms
    from ..fetching.store import Store

    stored = Store().by_sum(terms.sha256)
    return (stored.path if stored is not None else place), terms


def _named(place: Place, catalogues: Sequence[Place], authority: Path | None) -> CatalogueImage:
    """Return the image of the catalogues that is meant. Raises SourceError where there is none."""
    from ..fetching.catalogue import joined, meant
    from ..fetching.client import HttpClient

    client = HttpClient(authority)
    try:
        images = joined(read_all(catalogues, client))
    finally:
        client.close()
    found = meant(images, {place.name}, None if isinstance(place, Path) else place)
    if found is not None:
        return found
    raise SourceError(
        f"No image of the catalogue is called {place.name}.",
        advice=f"Its images: {', '.join(image.file for image in images[:LISTED]) or 'none'}.",
    )


def open_given(place: Place, given: GivenSource, terms: Terms) -> Source:
    """Open a source with what was given beside it; one that has to be measured first says how far it is."""
    from ..sources.opening import open_source

    with Stages() as stages:
        return open_source(
            place,
            given.added,
            stages,
            given.further,
            drivers=given.drivers,
            answer_file=given.answer_file,
            terms=terms,
        )


def open_alone(place: Place, terms: Terms, added: tuple[Path, ...] = (), further: tuple[Place, ...] = ()) -> Source:
    """Open a source with nothing beside it but, maybe, folders whose files are added, and further sources."""
    from ..sources.opening import open_source

    with Stages() as stages:
        return open_source(place, added, stages, further, terms=terms)


def prove(source: Source, sha256: str | None, wanted: bool) -> list[str]:
    """Verify the source as asked; return one line for each proof.

    The sum of an image on a server is compared while a drive is written; with `wanted` it is read before, too.
    """
    from ..families.proving import verify_source
    from ..sources.scanning import doubtful

    if source.remote_files and not wanted:
        return []
    if sha256 is None and not wanted:
        return []
    with Stages() as stages:
        proofs = verify_source(source, sha256, stages, integrity=wanted)
    return [*proofs, *doubtful(source)]
