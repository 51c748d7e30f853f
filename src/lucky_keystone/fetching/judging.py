"""What an answer means that brings no bytes of an image: wait, get a fresh link, or give up."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

from ..common.errors import SourceError
from .answers import Answer, Passing, title_of
from .link import Link

_GONE, _FORBIDDEN = (404, 410), (401, 403)
_BUSY = (408, 425, 429, 500, 502, 503, 504)
_PAGE = 64 << 10


class LinkExpired(SourceError):
    """A link that no longer leads to the image; a fresh one would."""


Expired = Callable[[str, str], SourceError]
"""Makes an error of what happened and why, which says what is kept and how to continue with a fresh link."""


def refuse_failure(answer: Answer, link: Link, expired: Expired, also: tuple[int, ...] = ()) -> None:
    """Raise Passing or SourceError for an answer without an image's bytes; those with the statuses `also` pass."""
    if answer.status in _BUSY:
        raise Passing(f"the server answers {answer.status}", answer.wait(datetime.now(UTC)))
    if answer.status in _GONE:
        raise expired("There is nothing at that link, or no longer", f"the server answers {answer.status}")
    if answer.status in _FORBIDDEN:
        raise expired("The link has expired, or needs a login", f"the server answers {answer.status}")
    if answer.status not in (200, 206, *also):
        raise SourceError(f"{link.shown}: the server answers {answer.status}.", advice="Check the link in a browser.")
    if answer.coding:
        raise SourceError(
            f"{link.shown}: the server compresses what it sends ({answer.coding}), which cannot be resumed.",
            advice="Use another link.",
        )


def page_instead(answer: Answer, expired: Expired, head: bytes = b"") -> SourceError:
    """Return the error for a page that came where an image should; `head` is what was read of it."""
    try:
        while len(head) < _PAGE and (piece := answer.body.read(_PAGE - len(head))):
            head += piece
    except Passing:
        pass
    title = title_of(head)
    named = f" ('{title}')" if title else ""
    return expired("The link has expired, or needs a login", f"what came is a web page{named}, not an image")
