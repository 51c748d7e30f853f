"""What servers answer, judged before a byte of it is used."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Protocol

from msgspec import Struct

_RANGE = re.compile(r"bytes\s+(?:(\d{1,19})-(\d{1,19})|\*)/(\d{1,19}|\*)", re.IGNORECASE)
_STRONG_TAG = re.compile(r'"[\x21\x23-\x7e\x80-\xff]{0,256}"')
_LONGEST_WAIT = 300.0
_SURE_AGE = 60  # seconds by which a date of change must lie back, to be as good as a tag (RFC 9110, 8.8.2.2)
_LONGEST_SHOWN = 200
_PAGES = ("text/html", "application/xhtml", "text/plain", "application/json", "text/xml", "application/xml")
_NO_TEXT = frozenset(range(32)) - frozenset(b"\t\n\f\r\x1b")
_PAGE_BEGINS = (b"<!doctype", b"<html", b"<?xml", b"<head", b"<body", b"{")


class Body(Protocol):
    """The bytes of an answer, front to back."""

    def read(self, size: int) -> bytes:
        """Return up to `size` bytes, b"" at the end. Raises Passing where the connection fails."""

    def close(self) -> None:
        """Drop the connection."""


class Answer(Struct, frozen=True):
    """A server's answer."""

    status: int
    headers: Mapping[str, str]
    """Names in lower case."""
    body: Body

    @property
    def span(self) -> tuple[int, int, int | None] | None:
        """First byte, the one behind the last, and bytes in all (None: not said) of a partial answer."""
        match = _RANGE.fullmatch(self.headers.get("content-range", "").strip())
        if match is None or match.group(1) is None:
            return None
        first, last = int(match.group(1)), int(match.group(2))
        whole = None if match.group(3) == "*" else int(match.group(3))
        if last < first or (whole is not None and last >= whole):
            return None
        return first, last + 1, whole

    @property
    def whole_by_range(self) -> int | None:
        """Bytes in all, by the header of an answer that refuses a range."""
        match = _RANGE.fullmatch(self.headers.get("content-range", "").strip())
        return int(match.group(3)) if match and match.group(3) != "*" else None

    @property
    def length(self) -> int | None:
        text = self.headers.get("content-length", "").strip()
        return int(text) if re.fullmatch(r"\d{1,19}", text) else None

    @property
    def tag(self) -> str:
        """The strong tag; '' where there is none: a weak one says nothing of bytes."""
        text = self.headers.get("etag", "").strip()
        return text if _STRONG_TAG.fullmatch(text) else ""

    @property
    def changed(self) -> str:
        """The date of the last change, where it lies back far enough to stand for the bytes; else ''."""
        text = self.headers.get("last-modified", "").strip()
        moments = [_date(each) for each in (text, self.headers.get("date", ""))]
        if moments[0] is None or moments[1] is None:
            return ""
        return text if (moments[1] - moments[0]).total_seconds() >= _SURE_AGE else ""

    @property
    def coding(self) -> str:
        """A coding that the server forces on the bytes; '' for none."""
        text = self.headers.get("content-encoding", "").strip().lower()
        return "" if text in ("", "identity") else text

    @property
    def is_page(self) -> bool:
        """True where the server says that this is text; some say it of images as well."""
        kind = self.headers.get("content-type", "").strip().lower()
        return kind.startswith(_PAGES)

    def wait(self, now: datetime) -> float | None:
        """Return the seconds that the server asks to wait for; None where it does not."""
        text = self.headers.get("retry-after", "").strip()
        if re.fullmatch(r"\d{1,9}", text):
            return min(float(text), _LONGEST_WAIT)
        moment = _date(text)
        return min(max((moment - now).total_seconds(), 0.0), _LONGEST_WAIT) if moment is not None else None


class Passing(Exception):
    """Something that may be better at the next try; the message says what happened."""

    def __init__(self, what: str, wait: float | None = None, tries: int | None = None) -> None:
        """`wait` in seconds, where the server says it; `tries` where more of them are of little use."""
        super().__init__(what)
        self.what, self.wait, self.tries = what, wait, tries


def looks_like_a_page(head: bytes) -> bool:
    """Tell whether bytes begin as a page does, and not as an image."""
    return head.lstrip()[:16].lower().startswith(_PAGE_BEGINS)


def is_text(head: bytes) -> bool:
    """Tell whether bytes can be read by people: no image begins so, and what calls itself text may be one."""
    return not _NO_TEXT.intersection(head)


def harmless(text: str) -> str:
    """Return a server's text for people: on one line, without control characters, cut short."""
    kept = "".join(sign if unicodedata.category(sign)[0] != "C" else " " for sign in text[: 8 * _LONGEST_SHOWN])
    return " ".join(kept.split())[:_LONGEST_SHOWN]


def title_of(page: bytes) -> str:
    """Return the title of a page; '' where it has none."""
    match = re.search(rb"<title[^>]*>(.*?)</title>", page, re.IGNORECASE | re.DOTALL)
    return harmless(match.group(1).decode("utf-8", "replace")) if match else ""


def _date(text: str) -> datetime | None:
    from email.utils import parsedate_to_datetime  # of all that is loaded here it takes the longest

    try:
        found = parsedate_to_datetime(text)
        return found if found.tzinfo is not None else found.replace(tzinfo=UTC)
    except (ValueError, TypeError, IndexError, OverflowError):
        return None
