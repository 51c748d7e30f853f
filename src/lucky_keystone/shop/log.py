"""The shop's record: what was done to which drive, from which source, when, and how it ended."""

from __future__ import annotations

import csv
import sqlite3
from collections.abc import Sequence
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any, TextIO

import msgspec
from msgspec import Struct
from msgspec.structs import asdict, astuple, fields

from ..common.errors import DriveError, UsageError
from ..common.notes import note
from .file import in_record

COMMANDS = ("build", "update", "check", "gauge", "mend", "reclaim")
"""Kinds of work that are entered."""
RESULTS = ("done", "faults", "failed", "refused", "interrupted")


class LogEntry(Struct, frozen=True, kw_only=True):
    """One piece of work on one drive."""

    moment: str
    """UTC, ISO 8601, to the second."""
    command: str
    result: str
    """done, faults, failed, refused, interrupted."""
    tag: str
    """Tag, or the name of an image file."""
    model: str = ""
    serial: str = ""
    size: int = 0
    """Bytes."""
    source: str = ""
    label: str = ""
    fingerprint: str = ""
    """Of the source."""
    bytes_written: int = 0
    seconds: float = 0.0
    retries: int = 0
    detail: str = ""
    """What went wrong, or what was found."""
    reading: int = 0
    """Bytes a second that a drive typically gave when it was gauged, or that a check read; 0 where not measured."""
    writing: int = 0
    """The same of writing: when it was gauged, or built."""
    blamed: bool = False
    """True where the drive itself was the cause: it failed, or did not keep what was written."""


COLUMNS = tuple(field.name for field in fields(LogEntry))
_LISTED = ", ".join(COLUMNS)


def add(entry: LogEntry) -> None:
    """Add an entry. Raises DriveError when the record cannot be written."""
    marks = ", ".join("?" for _ in COLUMNS)
    statement = f"INSERT INTO work ({_LISTED}) VALUES ({marks})"  # noqa: S608 - names of our own columns
    in_record(lambda record: record.execute(statement, astuple(entry)).rowcount, 0, make=True)


def find(
    *,
    drive: str | None = None,
    source: str | None = None,
    result: str | None = None,
    command: str | None = None,
    since: str | None = None,
    most: int | None = None,
) -> list[LogEntry]:
    """Return entries, the newest first.

    Texts are parts of what they filter, case ignored; `since` is a date or moment.
    """
    after = moment_of(since) if since else None
    wanted = {
        "tag || ' ' || model || ' ' || serial": drive,
        "source || ' ' || label": source,
        "result": result,
        "command": command,
    }
    conditions = [f"instr(lower({column}), lower(?)) > 0" for column, text in wanted.items() if text]
    values: list[str | int] = [text for text in wanted.values() if text]
    if after:
        conditions.append("moment >= ?")
        values.append(after)
    query = f"SELECT {_LISTED} FROM work"  # noqa: S608 - names of our own columns
    if conditions:
        query += " WHERE " + " AND ".join(conditions)
    query += " ORDER BY moment DESC, rowid DESC LIMIT ?"
    values.append(-1 if most is None else most)
    return _entries(query, values)


def _entries(query: str, values: Sequence[str | int]) -> list[LogEntry]:
    nothing: list[tuple[Any, ...]] = []
    rows = in_record(lambda record: record.execute(query, values).fetchall(), nothing, make=False)
    entries: list[LogEntry] = []
    for row in rows:
        with suppress(msgspec.ValidationError):
            found = dict(zip(COLUMNS, row, strict=True))
            entries.append(msgspec.convert({**found, "blamed": found["blamed"] == 1}, LogEntry))
    if len(entries) < len(rows):
        note(f"{len(rows) - len(entries)} of the entries in the shop's record are damaged, and left out.")
    return entries


def history(tag: str, serial: str) -> list[LogEntry]:
    """Return all entries of one drive, the newest first; none where the record cannot be read."""
    query = f"SELECT {_LISTED} FROM work WHERE tag = ? AND serial = ? ORDER BY moment DESC, rowid DESC"  # noqa: S608
    with suppress(DriveError):
        return _entries(query, (tag, serial))
    return []


def measured(tag: str, serial: str) -> tuple[int, int]:
    """Return the rates (bytes a second: reading, writing) at which a drive was gauged last; 0 where it never was.

    A record that cannot be read says nothing.
    """
    for entry in history(tag, serial):
        if entry.command == "gauge" and entry.reading:
            return entry.reading, entry.writing
    return 0, 0


def older_than(before: str) -> int:
    """Return how many entries there are from before a date or moment."""
    moment, query = moment_of(before), "SELECT COUNT(*) FROM work WHERE moment < ?"
    return in_record(lambda record: int(record.execute(query, (moment,)).fetchone()[0]), 0, make=False)


def prune(before: str) -> int:
    """Remove the entries from before a date or moment, and what is kept of builds; return how many entries there were.

    Manifests that are kept here stay.
    """
    moment = moment_of(before)

    def remove(record: sqlite3.Connection) -> int:
        record.execute("DELETE FROM built WHERE moment < ?", (moment,))
        return record.execute("DELETE FROM work WHERE moment < ?", (moment,)).rowcount

    return in_record(remove, 0, make=False, writes=True)


def write_csv(entries: Sequence[LogEntry], stream: TextIO) -> None:
    """Write entries with a heading, as RFC 4180 has it."""
    table = csv.DictWriter(stream, COLUMNS)
    table.writeheader()
    for entry in entries:
        table.writerow({name: safe_in_table(value) for name, value in asdict(entry).items()})


def safe_in_table(value: object) -> object:
    """Return a value for a CSV file; a text that a spreadsheet would run as a formula is made one that it shows."""
    return "'" + value if isinstance(value, str) and value[:1] in tuple("=+-@\t\r") else value


def moment_of(text: str) -> str:
    """Return a date or moment as entries have it. Raises UsageError for one that is neither."""
    try:
        given = datetime.fromisoformat(text)
    except ValueError as error:
        raise UsageError(f"'{text}' is not a date.", advice="Write it like 2026-11-23 or 2026-11-23T08:00.") from error
    return (given.astimezone(UTC) if given.tzinfo or "T" in text else given.replace(tzinfo=UTC)).strftime(
        "%Y-%m-%dT%H:%M:%SZ"
    )
