"""Fetching an image: continuing after any break, from a fresh link too, and believing nothing but bytes and sums."""

from __future__ import annotations

import random
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from ..common.errors import SourceError, UsageError
from ..common.progress import Progress
from ..common.shell import quoted
from .answers import Answer, Passing, is_text, looks_like_a_page
from .blocks import BlockSums
from .client import Client
from .judging import LinkExpired, page_instead, refuse_failure
from .link import Link, is_plain_name, refuse_unproven
from .part import Download
from .patience import Clock, Events, Patience, RealClock
from .ranges import Ranges
from .segments import Judge, Segments

_OVERLAP = 1 << 20
"""Bytes that are asked for once more at every start: where they differ, it is another file."""
_PROBE = 64 << 10
_PROBES = 3
_SET_ASIDE = "What lay here does not seem to belong to this image: it was moved to {}."
_PIECE = 256 << 10
_LARGEST = 64 << 30
_BLOCK_TRIES = 3
_OTHER_LINK = "Use another link; what is right of it is kept."
_ALONE = 5.0
"""Seconds after which further connections may be tried."""
_WORTH_SEVERAL = 256 << 20
"""Bytes still to come for which they are."""


class Wanted(Struct, frozen=True):
    """What the image has to be."""

    sha256: str = ""
    """'' where none is known."""
    size: int | None = None
    blocks: BlockSums | None = None
    """Sums of its blocks, where they are known: a damaged one is fetched again, alone."""
    sha1: str = ""
    """'' where none is wanted: catalogues of releases have no better one."""


class Fetched(Struct, frozen=True):
    """A whole image."""

    path: Path
    size: int
    sha256: str
    proven: bool
    """True where the sum that was wanted is the one it has, by SHA-256 or by SHA-1."""
    origin: str
    """Scheme, server and path."""


def fetch(
    links: Sequence[Link],
    into: Path,
    wanted: Wanted,
    client: Client,
    progress: Progress,
    events: Events,
    *,
    clock: Clock | None = None,
    patient: bool = False,
    from_scratch: bool = False,
    connections: int = 1,
) -> Fetched:
    """Get an image into the file `into`, which is there only when it is whole; the links are tried one after the other.

    Up to `connections` are used where a large image comes faster that way.

    Raises UsageError where nothing could prove what comes; SourceError where it is not available, or is another file;
    DriveError where it cannot be written; ProtectError where the name is taken.
    """
    for link in links:
        refuse_unproven(link, wanted.sha256 or wanted.sha1)
    if not is_plain_name(into.name):
        raise UsageError(f"'{into.name}' cannot be a file's name everywhere.", advice="Name another one with --into.")
    way = _Way(progress, events, clock or RealClock(), patient, connections)
    with Download(into, with_sha1=bool(wanted.sha1)) as part:
        if from_scratch:
            part.start_over()
        for number, link in enumerate(links, 1):
            run = _Run(link, part, wanted, client, way)
            try:
                return run.to_the_end()
            except SourceError as error:
                part.flush()
                if number == len(links):
                    raise
                events.told(f"{error.message} The next link is tried.")
            except BaseException:
                part.flush()
                raise
        raise UsageError("There is no link to get it from.", advice="Name one.")


class _Way(Struct, frozen=True):
    """How an image is fetched, whichever link it comes from."""

    progress: Progress
    events: Events
    clock: Clock
    is_patient: bool
    connections: int
    """As many are used at most."""


class _Run:
    """Getting an image by one link: over any number of connections, until it is whole."""

    def __init__(self, link: Link, part: Download, wanted: Wanted, client: Client, way: _Way) -> None:
        """Raises SourceError where the part that is here is of another image."""
        self._link, self._part, self._client, self._way = link, part, client, way
        self._events, self._clock = way.events, way.clock
        journal = part.journal
        if wanted.sha256 and journal.sha256 and wanted.sha256 != journal.sha256:
            raise SourceError(
                f"{part.path}: a part is here of an image with another SHA-256.",
                advice="Name another place with --into, or begin again with --from-scratch.",
            )
        journal.sha256 = wanted.sha256 or journal.sha256
        self._sha256, self._sha1 = journal.sha256, wanted.sha1
        # What has the size that a catalogue names is not a page in its place, even where it is text.
        self._may_be_text = wanted.size is not None and bool(wanted.sha256 or wanted.sha1)
        self._size = wanted.size if wanted.size is not None else journal.size
        if journal.size is not None and wanted.size not in (None, journal.size):
            raise SourceError(
                f"{part.path}: a part is here of an image of {journal.size:,} bytes, not {wanted.size:,}.",
                advice="Name another place with --into, or begin again with --from-scratch.",
            )
        # A part of the same link and the same tag is trusted as far as the overlap; any other is looked at first.
        self._is_same = not part.held or journal.origin == link.origin
        way.events.resumed_at, way.events.damaged = part.held, part.damaged
        self._most_connections = way.connections
        self._has_no_ranges, self._asks_plainly = False, False
        self._segments: Segments | None = None
        self._blocks, self._blocks_right, self._block_tries = wanted.blocks, 0, 0

    def to_the_end(self) -> Fetched:
        patience = Patience(
            self._link.shown, self._events, self._clock, is_patient=self._way.is_patient, at=self._part.length
        )
        while not self._is_whole():
            try:
                if self._segments is not None:
                    self._many_connections(self._segments)
                else:
                    self._connection()
            except Passing as passing:
                patience.wait(passing, self._part.length, f"{self._part.length:,} bytes are kept")
        return self._finished()

    def _is_whole(self) -> bool:
        self._part.take_known()
        return self._size is not None and self._part.length >= self._size

    def _finished(self) -> Fetched:
        found = self._part.sha256()
        if self._sha256 and found != self._sha256:
            raise self._wrong("SHA-256", found, self._sha256)
        if self._sha1 and (other := self._part.sha1()) != self._sha1:
            raise self._wrong("SHA-1", other, self._sha1)
        self._part.finish()
        return Fetched(self._part.path, self._part.length, found, bool(self._sha256 or self._sha1), self._link.origin)

    def _wrong(self, method: str, found: str, wanted: str) -> SourceError:
        self._part.start_over(".wrong")
        return SourceError(
            f"{self._part.path.name}: its {method} is {found}, not {wanted} as it should be.",
            advice=f"It is kept for a look as {self._part.path.name}.wrong. Check link and sum.",
        )

    # -- one connection ----------------------------------------------------------------------------------------------

    def _connection(self) -> None:
        """Ask for what is lacking, and take what comes until the answer ends."""
        part = self._part
        start = 0 if self._has_no_ranges else max(part.length - _OVERLAP, 0)
        end = part.gap_end()
        last = end - 1 if end is not None else ""
        headers = {} if self._has_no_ranges else {"Range": f"bytes={start}-{last}"}
        tag = part.journal.tag or part.journal.changed
        # Another link's server may not know this one's tag; the overlap and the sum show what it is as well.
        is_conditional = bool(start and tag) and self._is_same and not self._asks_plainly
        if is_conditional:
            headers["If-Range"] = tag
        answer, there = self._client.get(self._link, headers)
        try:
            if is_conditional and answer.status == 200:
                self._asks_plainly = True
                raise Passing("the server sends the whole file again, and is asked for the rest alone", 0.0)
            start = self._begins_at(answer, start)
            self._note(answer, there)
            is_bounded = answer.status == 206 and answer.span is not None and answer.span[1] == end
            self._take(answer, start, end if is_bounded else None)
        finally:
            answer.body.close()

    def _begins_at(self, answer: Answer, asked: int) -> int:
        """Return the byte with which an answer begins. Raises Passing or SourceError for a useless one."""
        refuse_failure(answer, self._link, self._expired, also=(416,))
        if answer.status == 416:
            return self._unsatisfiable(answer)
        if answer.status == 200:
            return self._whole_answer(answer)
        span = answer.span
        if span is None or span[0] != asked:
            self._has_no_ranges = True  # it says one thing and does another: from the front, then
            raise Passing("the server sends another range than was asked for", 0.0)
        self._know_size(span[2])
        return asked

    def _whole_answer(self, answer: Answer) -> int:
        if answer.is_page and self._size not in (None, answer.length) and is_text(head := answer.body.read(_PIECE)):
            raise page_instead(answer, self._expired, head)
        self._know_size(answer.length)
        self._has_no_ranges = self._part.length > 0 or self._has_no_ranges
        return 0

    def _unsatisfiable(self, answer: Answer) -> int:
        """The server has less than is asked for: it is told how much, by asking for the first byte alone."""
        whole = answer.whole_by_range
        if whole is None:
            first, _ = self._client.get(self._link, {"Range": "bytes=0-0"})
            first.body.close()
            whole = first.span[2] if first.span is not None else first.length
        if whole is None or self._size is None or whole == self._size:
            self._has_no_ranges = True
            raise Passing("the server refuses the range", 0.0)
        raise self._other_file(f"it has {whole:,} bytes there, {self._size:,} were told before")

    def _know_size(self, told: int | None) -> None:
        if told is None:
            if self._size is None:
                raise SourceError(
                    f"{self._link.shown}: the server does not say how large the image is.",
                    advice="Say it with --size BYTES.",
                )
            return
        if self._size is not None and told != self._size:
            raise self._other_file(f"it has {told:,} bytes there, {self._size:,} were told before")
        if told == 0:
            raise SourceError(f"{self._link.shown} is empty.", advice="Check the link in a browser.")
        if told > _LARGEST and self._size is None:
            raise SourceError(
                f"{self._link.shown}: {told:,} bytes are too many for an image.", advice="Say it with --size BYTES."
            )
        if self._size is None or self._part.journal.size is None:
            self._part.keep_room(told)
            if self._part.set_aside is not None:
                self._events.told(_SET_ASIDE.format(self._part.set_aside.name))
        self._size = told

    def _note(self, answer: Answer, there: Link) -> None:
        """Look whether it is still the same file, and keep what tells it next time."""
        part, journal = self._part, self._part.journal
        same_tag = bool(answer.tag) and answer.tag == journal.tag
        has_other_tag = bool(answer.tag and journal.tag) and not same_tag
        if part.held and (has_other_tag or not (same_tag or self._is_same)):
            self._compare_places()
        if not same_tag and not self._sha256:
            part.doubt_later()  # nothing would show that it is of an older file
        self._is_same = True
        journal.size, journal.tag, journal.changed = self._size, answer.tag, answer.changed
        journal.origin = self._link.origin

    def _compare_places(self) -> None:
        """Compare the beginning and some places between with what is here, before a byte is added."""
        part = self._part
        spans = [(start, size) for start, size in part.spans() if size >= _PROBE]
        if self._has_no_ranges or not spans:
            return
        chosen = random.choices(spans, [size for _, size in spans], k=_PROBES)  # noqa: S311
        places = [spans[0][0], *(start + random.randrange(size - _PROBE + 1) for start, size in chosen)]  # noqa: S311
        for place in places:
            answer, _ = self._client.get(self._link, {"Range": f"bytes={place}-{place + _PROBE - 1}"})
            try:
                if answer.status != 206 or answer.span is None or answer.span[0] != place:
                    return  # what comes from the front is compared while it comes
                found = b""
                while len(found) < _PROBE and (piece := answer.body.read(_PROBE - len(found))):
                    found += piece
            finally:
                answer.body.close()
            if found != part.read(place, len(found)):
                raise self._other_file("bytes that are here differ from those on the server")

    def _take(self, answer: Answer, at: int, end: int | None) -> None:
        """Compare what is here already, and write what is new, up to byte `end` or the last."""
        part, size = self._part, self._size
        assert size is not None
        began, first = self._clock.now(), at
        end = size if end is None else end
        while at < end:
            data = answer.body.read(min(_PIECE, end - at))
            if not data:
                raise Passing("the connection ended early")
            is_page = (answer.is_page and is_text(data)) or (not part.length and looks_like_a_page(data))
            if at == 0 and is_page and not self._may_be_text:
                raise page_instead(answer, self._expired, data)
            known = min(max(part.length - at, 0), len(data))
            if known and data[:known] != part.read(at, known):
                raise self._other_file("bytes that are here differ from those on the server")
            if known < len(data):
                part.append(data[known:])
            at += len(data)
            part.take_known()
            self._prove_blocks(size)
            self._way.progress("fetching", max(part.length, at), size)
            now = self._clock.now()
            if self._helps_to_have_more(answer, now - began, at - first, size):
                self._segments = self._many(size, (at - first) / (now - began))
                return

    # -- several connections -----------------------------------------------------------------------------------------

    def _helps_to_have_more(self, answer: Answer, seconds: float, count: int, size: int) -> bool:
        """Tell whether further connections are worth a try, after one brought `count` bytes in this many seconds."""
        return (
            self._most_connections > 1
            and seconds >= _ALONE
            and count > 0
            and answer.status == 206
            and size - self._part.length > _WORTH_SEVERAL
        )

    def _many(self, size: int, rate: float) -> Segments:
        ranges = Ranges(self._link, self._client, size)
        ranges.tag = self._part.journal.tag
        judge = Judge(self._clock, self._most_connections, rate)
        return Segments(ranges.open, self._part.length, size, self._most_connections, judge)

    def _many_connections(self, segments: Segments) -> None:
        """Write what several connections bring. Raises Passing where all of them broke."""
        part, size = self._part, self._size
        assert size is not None
        try:
            for data in segments.pieces():
                part.append(data)
                self._prove_blocks(size)
                self._way.progress("fetching", part.length, size)
                self._events.connections = max(self._events.connections, segments.connections)
        except SourceError as error:  # with one connection it will show what it means
            self._most_connections, self._segments = 1, None
            raise Passing(error.message.rstrip("."), 0.0) from error
        except Passing:
            if segments.given != part.length:  # a block was not right, and is fetched again
                self._segments = None
            raise

    def _prove_blocks(self, size: int) -> None:
        """Compare each block that is whole with its sum. Raises Passing for one that is to be fetched again."""
        blocks, part = self._blocks, self._part
        if blocks is None or not blocks.fits(size):
            return
        while self._blocks_right < blocks.count:
            start = self._blocks_right * blocks.block_size
            end = min(start + blocks.block_size, size)
            if end > part.length:
                return
            if not blocks.is_right(self._blocks_right, part.read(start, end - start)):
                part.cut(start)
                self._block_tries += 1
                what = f"the bytes from {start:,} to {end - 1:,} do not have the sum that the catalogue names"
                if self._block_tries >= _BLOCK_TRIES:
                    raise SourceError(f"{self._link.shown}: {what}. {self._kept().capitalize()}.", advice=_OTHER_LINK)
                raise Passing(what, 0.0)
            self._blocks_right += 1
            self._block_tries = 0

    # -- what ends it ------------------------------------------------------------------------------------------------

    def _kept(self) -> str:
        if not self._part.held:
            return "nothing was downloaded yet"
        of = f" of {self._size:,}" if self._size else ""
        return f"{self._part.held:,}{of} bytes are kept"

    def _expired(self, what: str, why: str) -> SourceError:
        return LinkExpired(
            f"{what} ({why}); {self._kept()}.",
            advice=f"Get a fresh link and run: lucky-keystone fetch NEW-LINK --into {quoted(str(self._part.path))}",
        )

    def _other_file(self, why: str) -> SourceError:
        return SourceError(
            f"{self._link.shown} is another file than the part that is here: {why}. {self._kept().capitalize()}.",
            advice=f"Name another place with --into, or begin again with --from-scratch (the part of "
            f"{self._part.path.name} is lost then).",
        )
