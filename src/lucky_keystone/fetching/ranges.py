"""Ranges of one file on a server: every answer is compared with what the first one said of the file."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from ..common.errors import SourceError
from .answers import Answer, Body, looks_like_a_page
from .judging import page_instead, refuse_failure
from .link import Link

if TYPE_CHECKING:
    from .client import Client

GRANULE = 64 << 10
"""Bytes that are compared and kept together."""
Read = Callable[[int, memoryview], None]
_CHANGED = 412  # an If-Match that does not match (RFC 9110, 15.5.13)
_LARGEST = 64 << 30


class Ranges:
    """Asks for the bytes of a file, from any of them on."""

    def __init__(self, link: Link, client: Client, size: int | None = None) -> None:
        """`size` (bytes) where it is known before the server is asked."""
        self.link, self._client = link, client
        self.tag = ""
        self._size = size
        self._lent: list[tuple[int, int, Read]] = []

    @property
    def is_known(self) -> bool:
        """True once an answer said what the file is."""
        return self._size is not None

    @property
    def size(self) -> int:
        """Bytes of the whole file, as the first answer said."""
        assert self._size is not None
        return self._size

    def lend(self, offset: int, size: int, read: Read) -> None:
        """Have whole granules of the file from here: `read` fills a buffer from an offset of the file."""
        start, end = -(-offset // GRANULE) * GRANULE, (offset + size) // GRANULE * GRANULE
        if start < end:
            self._lent.append((start, end, read))
            self._lent.sort(key=lambda each: each[0])

    def until(self, first: int) -> int:
        """Return the byte up to which one answer gives what lies from `first` on."""
        for start, end, _ in self._lent:
            if start <= first < end:
                return end
            if start > first:
                return start
        return self.size

    def open(self, first: int, end: int) -> Body:
        """Ask for the bytes from `first` up to `end`; no more than `until` says. Raises Passing or SourceError."""
        for start, stop, read in self._lent:
            if start <= first < stop:
                return _Lent(read, first, min(stop, end))
        headers = {"Range": f"bytes={first}-{end - 1}"}
        if self.tag:
            headers["If-Match"] = self.tag
        answer, _ = self._client.get(self.link, headers)
        try:
            self._judge(answer, first)
        except BaseException:
            answer.body.close()
            raise
        return answer.body

    def refuse_page(self, head: bytes) -> None:
        """Raise SourceError where a file begins as a page for people does."""
        if looks_like_a_page(head):
            raise page_instead(Answer(200, {}, _Nothing()), self._expired, head)

    def changed(self, why: str) -> SourceError:
        """Return the error for a file that is no longer the one that was begun with."""
        return SourceError(
            f"The image changed on the server while it was read: {why}.",
            advice="Run the command again from the beginning (a build: with --from-scratch).",
        )

    def _judge(self, answer: Answer, first: int) -> None:
        if answer.status == _CHANGED:
            raise self.changed("it has another tag now")
        refuse_failure(answer, self.link, self._expired, also=(416,))
        if answer.status == 200:
            if answer.is_page:
                raise page_instead(answer, self._expired)
            raise SourceError(
                f"{self.link.shown}: this server gives files only as a whole, and no ranges of them.",
                advice=f"Download it first: lucky-keystone fetch {self.link.shown}",
            )
        whole = answer.whole_by_range if answer.status == 416 else answer.span[2] if answer.span else None
        if whole is not None and self._size is not None and whole != self._size:
            raise self.changed(f"it has {whole:,} bytes now, {self._size:,} were told before")
        if answer.status == 416 or answer.span is None or answer.span[0] != first or whole is None:
            raise SourceError(
                f"{self.link.shown}: the server sends another range than was asked for, or does not say how large "
                "the image is.",
                advice=f"Download it first: lucky-keystone fetch {self.link.shown}",
            )
        if self._size is None and whole > _LARGEST:
            raise SourceError(
                f"{self.link.shown}: {whole:,} bytes are too many for an image.", advice="Check the link in a browser."
            )
        if self.tag and answer.tag and answer.tag != self.tag:
            raise self.changed("it has another tag now")
        self._size, self.tag = whole, self.tag or answer.tag

    def _expired(self, what: str, why: str) -> SourceError:
        return SourceError(
            f"{what} ({why}).",
            advice="Get a fresh link and run the same command with it: an interrupted build continues.",
        )


class _Lent:
    """Bytes that are here already, as an answer."""

    def __init__(self, read: Read, at: int, end: int) -> None:
        self._read, self._at, self._end = read, at, end

    def read(self, size: int) -> bytes:
        view = memoryview(bytearray(min(size, self._end - self._at)))
        if view:
            self._read(self._at, view)
            self._at += len(view)
        return bytes(view)

    def close(self) -> None:
        """Nothing is open."""


class _Nothing:
    def read(self, size: int) -> bytes:
        return b""

    def close(self) -> None:
        """Nothing is open."""
