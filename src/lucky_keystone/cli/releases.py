"""`fetch` from a catalogue of macOS releases: listed, narrowed down, and the parts of one fetched."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..common.errors import SourceError, UsageError
from ..common.shell import command_line
from ..common.units import counted, shown_size
from ..doing.releases import fetch_parts, suits, with_words
from ..fetching.patience import Events
from ..fetching.releases import WHOLE, read_products
from .choosing import choose_offer, matching_offers, show_offers, tell_notes
from .manner import manner
from .show import console, emit_json, facts, paragraph
from .stages import Stages

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from ..doing.releases import FetchedPart
    from ..fetching.client import Client
    from ..fetching.link import Place
    from ..fetching.releases import Release

_SUITS = {"met": "yes", "not met": "no", "not known": "not known"}


class Releases:
    """The releases of a catalogue."""

    def __init__(self, place: Place, data: bytes, client: Client, how: Mapping[str, Any]) -> None:
        """`how`: what `fetch` takes by name."""
        self._place, self._data, self._client, self._how = place, data, client, how

    def run(self, wanted: dict[str, str], mac: str | None, into: Path | None, *, only_list: bool) -> None:
        """List the releases that match, or fetch the one that does. `wanted` has the narrowing options."""
        releases = self._read(wanted.pop("language", ""))
        if mac is not None:
            releases = [release for release in releases if suits(release, mac).met != "not met"]
            if not releases:
                raise SourceError(f"The catalogue has no release for {mac}.", advice="Leave out --for to see all.")
        if only_list:
            self._list(matching_offers(releases, wanted), mac)
            return
        release = choose_offer(releases, wanted)
        if into is None:
            raise UsageError(
                f"{release.words} comes in {counted(len(release.product.parts), 'part')}: name a folder for them.",
                advice="Add --into FOLDER, which is made where there is none.",
            )
        if into.exists() and not into.is_dir():
            raise UsageError(f"{into} is not a folder.", advice="Name a folder with --into.")
        with Stages() as stages:
            parts = fetch_parts(release, into, self._client, stages, lambda: Events(told=stages.note), self._how)
        self._tell(release, into, parts)

    def _read(self, language: str) -> list[Release]:
        products, notes = read_products(self._data, str(self._place))
        tell_notes(notes)
        with Stages() as stages:
            return with_words(products, language, self._client, stages)

    def _list(self, found: Sequence[Release], mac: str | None) -> None:
        if manner().as_json:
            from .documents import ListedOffer, OffersDocument

            offers = [ListedOffer.of(each, suits(each, mac) if mac is not None else None) for each in found]
            emit_json(OffersDocument(offers=offers))
            return
        further = {"Parts": [str(len(release.product.parts)) for release in found]}
        if mac is not None:
            further[f"For {mac}"] = [_SUITS[suits(release, mac).met] for release in found]
        show_offers(found, further)

    def _tell(self, release: Release, folder: Path, parts: Sequence[FetchedPart]) -> None:
        source = folder / WHOLE if parts[0].path.name == WHOLE else folder
        if manner().as_json:
            from .documents import FetchedPartBody, ReleaseDocument

            bodies = [
                FetchedPartBody(str(part.path), part.size, part.sha256, part.proven, part.was_there) for part in parts
            ]
            emit_json(
                ReleaseDocument(
                    release=release.file, build=release.build, product=release.product.number, source=str(source),
                    parts=bodies,
                )
            )  # fmt: skip
            return
        out = console()
        rows = [("Release", release.words)]
        for part in parts:
            state = "already here" if part.was_there else "fetched"
            proof = "" if part.proven else ", not proven: the catalogue has no sum of it"
            rows.append((part.path.name, f"{shown_size(part.size)}, {state}{proof}"))
        facts(out, rows)
        if all(part.was_there for part in parts):
            paragraph(out, "All of it is here already: nothing was downloaded.", style="good")
        if all(part.proven for part in parts):
            paragraph(out, "Every part has the sum that the catalogue names.", style="good")
        if not manner().quiet:
            paragraph(out, f"Build from it: {command_line(['build', str(source), '--onto', 'DRIVE'])}")
