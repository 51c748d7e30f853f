"""Small files from servers, read as a whole: catalogues, and what they name."""

from __future__ import annotations

from ..common.errors import SourceError, UsageError
from .answers import Passing
from .catalogue import LARGEST
from .client import Client
from .judging import page_instead, refuse_failure
from .link import Link
from .patience import Events, Patience, RealClock


def fetch_small(link: Link, client: Client, events: Events | None = None, *, is_proof: bool = True) -> bytes:
    """Return the bytes of a small file. Raises SourceError where it is not available.

    What is a proof of something else has to come over https: raises UsageError.
    """
    if is_proof and link.scheme != "https":
        raise UsageError(f"{link.shown}: a catalogue has to come over https.", advice="Use an https link, or a file.")

    def expired(what: str, why: str) -> SourceError:
        return SourceError(f"{link.shown}: {what[:1].lower()}{what[1:]} ({why}).", advice="Check the link.")

    patience = Patience(link.shown, events or Events(), RealClock())
    while True:
        try:
            answer, _ = client.get(link, {})
            try:
                refuse_failure(answer, link, expired)
                if answer.headers.get("content-type", "").lower().startswith("text/html"):
                    raise page_instead(answer, expired)
                found = bytearray()
                while len(found) <= LARGEST and (piece := answer.body.read(LARGEST + 1 - len(found))):
                    found += piece
                if answer.length is not None and len(found) < min(answer.length, LARGEST + 1):
                    raise Passing("the connection ended early")
                return bytes(found)
            finally:
                answer.body.close()
        except Passing as passing:
            patience.wait(passing, 0, "nothing was written")
