"""What the shop's record keeps of a build beside its entry: the decisions with their reasons, for the drive's page.

A drive itself has no room for reasons. They are found again by the fingerprint that the drive's manifest has of its
build, and a record that cannot be used says nothing.
"""

from __future__ import annotations

from contextlib import suppress

import msgspec

from ..common.errors import DriveError
from ..common.notes import note
from .file import in_record, now


class KeptDecision(msgspec.Struct, frozen=True, kw_only=True):
    """A decision of a plan."""

    topic: str
    value: str
    reason: str


class KeptBuild(msgspec.Struct, frozen=True, kw_only=True):
    """What is known of a build on the computer that did it."""

    source: str
    """Path, or link without anything secret."""
    sha256: str = ""
    """Of the source, where it was proven or asked for."""
    decisions: tuple[KeptDecision, ...] = ()


def remember(build: str, what: KeptBuild) -> None:
    """Keep what is known of a build under its fingerprint (hexadecimal). What cannot be kept is warned of."""
    values = (build, now(), msgspec.json.encode(what).decode())
    statement = "INSERT OR REPLACE INTO built VALUES (?, ?, ?)"
    try:
        in_record(lambda record: record.execute(statement, values).rowcount, 0, make=True)
    except DriveError as trouble:
        note(f"{trouble.message} {trouble.advice}")


def recall(build: str) -> KeptBuild | None:
    """Return what is known of a build; None where nothing is."""
    query = "SELECT what FROM built WHERE build = ?"
    with suppress(DriveError, msgspec.DecodeError, TypeError):
        row = in_record(lambda record: record.execute(query, (build,)).fetchone(), None, make=False)
        if row is not None:
            return msgspec.json.decode(row[0], type=KeptBuild)
    return None
