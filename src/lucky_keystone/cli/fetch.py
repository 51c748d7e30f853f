"""`fetch`: gets an image from a server, into the store or a file."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..common.errors import DriveError, ProtectError, UsageError
from ..common.shell import quoted
from ..common.units import counted, exact_size, shown_size
from .choosing import (
    choose_offer,
    matching_offers,
    parsed,
    read_bytes,
    refuse_other_sum,
    refuse_without_links,
    show_offers,
)
from .completion import complete_words
from .guided import complain
from .headings import Command
from .manner import manner
from .options import Sha256, Size, SourcePlace, authority_option, output_options, terms_of
from .question import ask, can_ask
from .show import console, emit_json, facts, paragraph
from .sources import open_alone
from .stages import Stages

if TYPE_CHECKING:
    from ..fetching.catalogue import CatalogueImage
    from ..fetching.client import Client
    from ..fetching.fetch import Fetched, Wanted
    from ..fetching.judging import LinkExpired
    from ..fetching.link import Link, Place
    from ..fetching.patience import Events
    from ..fetching.store import StoredImage

_NAMED = 3
_NARROWING = ("release", "build", "edition", "language", "architecture")


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone fetch https://images.tidewell.example/tidewell-12.iso --sha256 SUM
  lucky-keystone fetch https://images.tidewell.example/tidewell-12.iso --into images/
  lucky-keystone fetch NEW-LINK --into tidewell-12.iso
  lucky-keystone fetch - --into tidewell-12.iso < link.txt
  lucky-keystone fetch --catalogue tidewell.toml --release 'Tidewell 12' --language en-GB
  lucky-keystone fetch --catalogue releases.plist --list --for TidewellBook7,2
  lucky-keystone fetch --catalogue releases.plist --release 14 --into tidewell-14
  lucky-keystone fetch LINK --sha256 SUM --adopt tidewell-12.iso.part
  lucky-keystone fetch --record tidewell-12.iso --catalogue shop.toml""",
)
@click.argument("link", metavar="[LINK]", required=False)
@click.option(
    "--into",
    type=click.Path(path_type=Path),
    metavar="FILE-or-FOLDER",
    help="Where the image goes; else among the downloaded images, where 'build' finds it by its name.",
)
@click.option("--sha256", type=Sha256(), metavar="SUM", help="The image must have this SHA-256.")
@click.option("--size", type=Size(), metavar="BYTES", help="How large it is, where the server does not say it.")
@click.option(
    "--catalogue",
    "catalogues",
    type=SourcePlace(),
    multiple=True,
    metavar="FILE-or-LINK",
    help="Choose from a catalogue, or prove LINK by it. Repeatable. A catalogue of macOS releases stands alone.",
)
@click.option("--list", "only_list", is_flag=True, help="Of a catalogue: show what it has, and get nothing.")
@click.option(
    "--for", "mac", metavar="MODEL", help="Of a catalogue of macOS releases: without those that are not for this Mac."
)
@click.option("--release", metavar="TEXT", help="Of a catalogue: this release.")
@click.option("--build", metavar="TEXT", help="Of a catalogue: this build.")
@click.option("--edition", metavar="NAME", help="Of a catalogue: with this edition.")
@click.option("--language", metavar="TAG", help="Of a catalogue: in this language (en, en-GB).")
@click.option(
    "--architecture",
    metavar="WORD",
    shell_complete=complete_words("x64", "x86", "arm64", "universal"),
    help="Of a catalogue: x64, x86, arm64 or universal.",
)
@click.option(
    "--record",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Add this image, which is here, to the catalogue; LINK, when given, is where others get it.",
)
@click.option(
    "--adopt",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Take over this unfinished file of another program (.part and others) and continue it; needs a sum.",
)
@authority_option
@click.option(
    "--connections",
    type=click.IntRange(1, 8),
    default=4,
    show_default=True,
    metavar="N",
    help="Use up to N connections where a large image comes faster that way.",
)
@click.option("--patient", is_flag=True, help="Keep trying for an hour where the server does not answer.")
@click.option("--from-scratch", is_flag=True, help="Drop the part that is here, and begin again.")
@output_options
def command(
    link: str | None,
    into: Path | None,
    sha256: str | None,
    size: int | None,
    catalogues: tuple[Place, ...],
    only_list: bool,
    mac: str | None,
    record: Path | None,
    adopt: Path | None,
    authority: Path | None,
    connections: int,
    patient: bool,
    from_scratch: bool,
    **narrowing: str | None,
) -> None:
    """Get an image from LINK ('-': the link is read from standard input) or a catalogue.

    The file has its name only when it is whole. The same command continues after any break, also with a fresh link.
    """
    from ..fetching.catalogue import is_of_releases, joined
    from ..fetching.client import HttpClient
    from ..fetching.fetch import Wanted
    from ..fetching.link import parse_link

    given = parse_link(sys.stdin.readline().strip() if link == "-" else link) if link is not None else None
    wanted_words = {name: value for name in _NARROWING if (value := narrowing[name]) is not None}
    if record is not None:
        _record(record, catalogues, given)
        return
    if not catalogues:
        _refuse_without_catalogue(given, [*wanted_words, *["list"] * only_list, *["for"] * (mac is not None)])
    how = {"patient": patient, "from_scratch": from_scratch, "connections": connections}
    client = HttpClient(authority)
    try:
        read = [(place, read_bytes(place, client)) for place in catalogues]
        if any(is_of_releases(data) for _, data in read):
            if len(read) > 1 or given is not None or adopt is not None or sha256 is not None or size is not None:
                raise UsageError(
                    "A catalogue of releases stands alone: it says where the parts are, and what proves them.",
                    advice="Leave out LINK, --adopt, --sha256, --size and further catalogues.",
                )
            from .releases import Releases

            Releases(*read[0], client, how).run(wanted_words, mac, into, only_list=only_list)
            return
        if mac is not None:
            raise UsageError("--for goes with a catalogue of macOS releases.", advice="Leave it out.")
        images = joined([parsed(*each) for each in read])
        if only_list:
            _list(matching_offers(images, wanted_words))
            return
        image = _of_catalogue(images, given, into, wanted_words) if read else None
        errand = _errand_for(image, given, into, adopt, Wanted(sha256 or "", size), client)
        errand.how = how
        place = adopt.parent if adopt is not None and into is None else into
        if place is None:
            errand.into_store()
        else:
            errand.into_file(place / errand.name if place.is_dir() else place, adopt)
    finally:
        client.close()


def _refuse_without_catalogue(link: Link | None, narrowing: Iterable[str]) -> None:
    if link is None:
        raise UsageError("There is nothing to get.", advice="Name a LINK, or a catalogue with --catalogue.")
    for name in narrowing:
        raise UsageError(f"--{name} goes with --catalogue.", advice="Name the catalogue.")


def _errand_for(
    image: CatalogueImage | None,
    given: Link | None,
    into: Path | None,
    adopt: Path | None,
    wanted: Wanted,
    client: Client,
) -> _Errand:
    """Return what is to be got: an image of a catalogue, or what a link leads to. Raises UsageError."""
    from ..fetching.fetch import Wanted
    from ..fetching.link import final_name
    from ..fetching.patience import Events

    links = [given] if given is not None else image.links if image is not None else []
    if image is not None:
        refuse_other_sum(image, wanted.sha256 or None)
        name, wanted = image.file, Wanted(image.sha256, image.size, image.blocks)
    else:
        name = _named(links[0].file_name or (final_name(adopt.name) if adopt is not None else ""), into)
    if adopt is not None and not wanted.sha256:
        raise UsageError(
            "--adopt needs a sum: what another program left may have gaps.", advice="Add --sha256, or --catalogue."
        )
    return _Errand(links, name, wanted, image.words if image is not None else "", client, Events())


def _list(images: Sequence[CatalogueImage]) -> None:
    if manner().as_json:
        from .documents import ListedOffer, OffersDocument

        emit_json(OffersDocument(offers=[ListedOffer.of(image) for image in images]))
        return
    show_offers(images)


def _of_catalogue(
    images: Sequence[CatalogueImage], given: Link | None, into: Path | None, wanted: dict[str, str]
) -> CatalogueImage:
    """Return the image that is meant."""
    from ..fetching.catalogue import meant

    if given is not None and not wanted:
        names = {given.file_name, into.name if into is not None else ""}
        if (found := meant(images, names, given)) is not None:
            return found
    image = choose_offer(images, wanted)
    if given is None:
        refuse_without_links(image)
    return image


def _named(name: str, into: Path | None) -> str:
    if not name and (into is None or into.is_dir()):
        raise UsageError("The link does not end in a plain file name.", advice="Name the file with --into FILE.")
    return name


class _Errand:
    """What is to be got, and how it is told."""

    def __init__(
        self, links: list[Link], name: str, wanted: Wanted, words: str, client: Client, events: Events
    ) -> None:
        self._links, self.name, self._wanted, self._words = links, name, wanted, words
        self._client, self._events = client, events
        self.how: dict[str, Any] = {}
        """How it is fetched: what `fetch` takes by name."""

    def fetch(self, path: Path) -> Fetched:
        """Get it into a file; in a terminal a fresh link is asked for where the one that was given has expired."""
        from ..fetching.fetch import fetch
        from ..fetching.judging import LinkExpired

        while True:
            try:
                with Stages() as stages:
                    self._events.told = stages.note
                    return fetch(
                        self._links,
                        path,
                        self._wanted,
                        self._client,
                        stages,
                        self._events,
                        **self.how,
                    )
            except LinkExpired as expired:
                fresh = self._fresh_link(expired)
                if fresh is None:
                    raise
                self._links, self.how = [fresh], {**self.how, "from_scratch": False}

    def _fresh_link(self, expired: LinkExpired) -> Link | None:
        """Ask for another link; None where there is nobody to ask, or none is given."""
        from ..fetching.link import parse_link

        if not can_ask():
            return None
        complain(console(), expired)
        while answer := ask("A fresh link for the same image, to continue at once (Enter: stop)"):
            try:
                return parse_link(answer)
            except UsageError as error:
                complain(console(), error)
        return None

    def into_file(self, path: Path, adopt: Path | None) -> None:
        """Get it into a file, from what another program left of it where that is named; or prove what is there."""
        from ..fetching.foreign import adopted

        is_taken = adopt is None or not adopt.exists()  # a run that was killed had moved it already
        if self._wanted.sha256 and path.is_file() and not path.is_symlink() and is_taken:
            self._prove(path)
            return
        with ExitStack() as stack:
            if adopt is not None:
                with Stages() as stages:
                    stack.enter_context(adopted(adopt, path, stages))
            done = self.fetch(path)
        self._tell(done.path, done.size, done.sha256, done.origin, proven=done.proven)

    def _prove(self, path: Path) -> None:
        """Compare a file that has the name already with the sum. Raises ProtectError where it has another."""
        from ..fetching.summing import file_sum

        with Stages() as stages:
            found = file_sum(path, stages)
        if found != self._wanted.sha256:
            raise ProtectError(
                f"{path} exists already, and is another file: its SHA-256 is {found}, not {self._wanted.sha256}.",
                advice="Move it away, or name another place with --into.",
            )
        self._tell(path, path.stat().st_size, found, "", was_there=True)

    def into_store(self) -> None:
        """Get it into the store, unless it is there."""
        from ..fetching.store import ImageNote, Store

        store = Store()
        path = store.arriving(self.name)
        found = store.by_sum(self._wanted.sha256)
        if found is not None:
            if not found.is_believed:
                with Stages() as stages:
                    store.verify(found, stages)
            self._tell(found.path, found.about.size, found.sha256, found.about.origin, stored=found, was_there=True)
            return
        try:
            done = self.fetch(path)
        except DriveError as error:  # mostly a disk that is full
            if oldest := [image.about.name for image in reversed(store.images())][:_NAMED]:
                error.advice += (
                    f" Used longest ago: {', '.join(oldest)}; 'lucky-keystone images --forget NAME' deletes."
                )
            raise
        about = ImageNote(name=self.name, size=done.size, proven=done.proven, origin=done.origin, words=self._words)
        image = store.take_in(done.path, done.sha256, about)
        self._tell(image.path, done.size, done.sha256, done.origin, stored=image, proven=done.proven)

    def _tell(
        self,
        path: Path,
        size: int,
        sha256: str,
        origin: str,
        *,
        stored: StoredImage | None = None,
        proven: bool = True,
        was_there: bool = False,
    ) -> None:
        events = self._events
        if manner().as_json:
            from .documents import FetchDocument

            emit_json(
                FetchDocument(
                    path=str(path),
                    size=size,
                    sha256=sha256,
                    proven=proven,
                    origin=origin,
                    resumed_at=events.resumed_at,
                    interruptions=events.interruptions,
                    damaged=events.damaged,
                    connections=events.connections,
                    stored=stored is not None,
                    was_there=was_there,
                )
            )
            return
        out = console()
        place = (
            f"{path.name}, among the downloaded images" if stored is not None and not manner().verbose else str(path)
        )
        rows = [("Image", place), ("Size", exact_size(size)), ("SHA-256", sha256)]
        rows += [("From", origin)] if origin else []
        facts(out, [*rows, *_rows_of(events)])
        if was_there:
            where = "among the downloaded images" if stored is not None else "here"
            paragraph(out, f"It is {where} already, and right: nothing was downloaded.", style="good")
        elif proven:
            paragraph(out, "It has the SHA-256 that was given.", style="good")
        else:
            paragraph(out, "Not proven: compare its SHA-256 with the one that its maker names.", style="warn")
        if stored is not None:
            paragraph(out, f"Build from it by its name: lucky-keystone build {quoted(stored.about.name)} --onto DRIVE")


def _rows_of(events: Events) -> Iterator[tuple[str, str]]:
    """Return what happened on the way."""
    if events.resumed_at:
        yield "Continued", f"after {shown_size(events.resumed_at)} that were here already"
    if events.damaged:
        yield "Damaged", f"{exact_size(events.damaged)} here had changed, and were fetched again"
    if events.connections > 1:
        yield "Connections", f"up to {events.connections}"
    if events.interruptions:
        yield "Interrupted", f"{counted(events.interruptions, 'time')}, and continued"


def _record(path: Path, catalogues: tuple[Place, ...], link: Link | None) -> None:
    """Add an image that is here to a catalogue."""
    if len(catalogues) != 1 or not isinstance(catalogues[0], Path):
        raise UsageError("--record goes with one --catalogue FILE.", advice="Name the catalogue, which may be new.")
    catalogue = catalogues[0]
    from ..doing.recording import entry_for, refuse_unlistable
    from ..fetching.catalogue import add_image

    refuse_unlistable(path)
    opened = open_alone(path, terms_of(None, None))
    with Stages() as stages:
        image = entry_for(opened, path, link, stages)
    added = add_image(catalogue, image)
    if manner().as_json:
        from .documents import RecordDocument

        emit_json(RecordDocument(catalogue=str(catalogue), added=added, image=image))
        return
    out = console()
    facts(out, [("Image", image.file), ("What it is", image.words), ("SHA-256", image.sha256)])
    paragraph(out, f"{'Added to' if added else 'It is already in'} {catalogue}.", style="good" if added else "quiet")
