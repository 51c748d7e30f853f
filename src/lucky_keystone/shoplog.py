"""The shop's record: what was built on which drive from which source, when, and how it ended. A local SQLite database.

It is the technician's memory and nothing depends on it: a record that cannot be written never stops the work.
"""

from __future__ import annotations

import csv
import os
import sqlite3
import sys
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import asdict, astuple, dataclass, fields
from datetime import UTC, datetime
from pathlib import Path
from typing import TextIO

import platformdirs

from .errors import DriveError, UsageError
from .invoker import elevated_for, give_to_user, home, make_folder

JOURNALS = "LUCKY_KEYSTONE_JOURNALS"
PLACE = "LUCKY_KEYSTONE_LOG"
"""Environment variable: another file, or 'off'."""

_VERSION = 2
_ADVICE = "Name another file with LUCKY_KEYSTONE_LOG=FILE, or leave the record out with LUCKY_KEYSTONE_LOG=off."


@dataclass(frozen=True, kw_only=True)
class LogEntry:
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
    """Bytes a second that a drive typically gave when it was gauged; 0 where it was not measured."""
    writing: int = 0
    """The same of writing."""


COLUMNS = tuple(field.name for field in fields(LogEntry))


_SINCE_2 = ("reading", "writing")
"""Columns that records of version 1 do not have."""


def now() -> str:
    """Return the moment as entries carry it."""
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def place() -> Path | None:
    """Return the database's file; None when it is switched off."""
    named = os.environ.get(PLACE)
    if named is not None:
        return None if named in ("", "off") else Path(named)
    return _usual_place()


def journals() -> Path:
    """Return the folder for what has to be put back onto drives: beside the record, also when that is switched off."""
    named = os.environ.get(JOURNALS)
    return Path(named) if named else (place() or _usual_place()).parent / "journals"


def data_folder() -> Path:
    """Return the folder for what the program keeps on this computer: the user's own, with sudo in between too."""
    if elevated_for() is not None and sys.platform.startswith("linux"):
        return home() / ".local/share/lucky-keystone"
    if elevated_for() is not None and sys.platform == "darwin":
        return home() / "Library/Application Support/lucky-keystone"
    return platformdirs.user_data_path("lucky-keystone", appauthor=False)


def _usual_place() -> Path:
    return data_folder() / "log.sqlite"


def add(entry: LogEntry) -> None:
    """Add an entry. Raises DriveError when the record cannot be written."""
    file = place()
    if file is None:
        return
    with translated(file):
        make_folder(file.parent)
        new = not file.exists()
        with closing(connected(file)) as database, database:
            marks = ", ".join("?" for _ in COLUMNS)
            database.execute(f"INSERT INTO work ({', '.join(COLUMNS)}) VALUES ({marks})", astuple(entry))  # noqa: S608
        if new:
            give_to_user(file)


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
    after = _moment(since) if since else None
    file = place()
    if file is None or not file.exists():
        return []
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
    query = f"SELECT {', '.join(COLUMNS)} FROM work"  # noqa: S608 - names of our own columns
    if conditions:
        query += " WHERE " + " AND ".join(conditions)
    query += " ORDER BY moment DESC, rowid DESC LIMIT ?"
    values.append(-1 if most is None else most)
    with translated(file), closing(connected(file)) as database:
        return [LogEntry(**dict(zip(COLUMNS, row, strict=True))) for row in database.execute(query, values)]


def measured(tag: str, serial: str) -> tuple[int, int]:
    """Return the rates (bytes a second: reading, writing) at which a drive was gauged last; 0 where it never was.

    A record that cannot be read says nothing.
    """
    with suppress(DriveError):
        for entry in find(drive=tag, command="gauge"):
            if (entry.tag, entry.serial) == (tag, serial) and entry.reading:
                return entry.reading, entry.writing
    return 0, 0


def write_csv(entries: Sequence[LogEntry], stream: TextIO) -> None:
    """Write entries with a heading, as RFC 4180 has it.

    Texts that a spreadsheet would run as a formula are made texts.
    """
    table = csv.DictWriter(stream, COLUMNS)
    table.writeheader()
    for entry in entries:
        table.writerow(
            {
                name: "'" + value if str(value)[:1] in tuple("=+-@\t\r") else value
                for name, value in asdict(entry).items()
            }
        )


def _moment(text: str) -> str:
    try:
        given = datetime.fromisoformat(text)
    except ValueError as error:
        raise UsageError(f"'{text}' is not a date.", advice="Write it like 2026-11-23 or 2026-11-23T08:00.") from error
    return (given.astimezone(UTC) if given.tzinfo or "T" in text else given.replace(tzinfo=UTC)).strftime(
        "%Y-%m-%dT%H:%M:%SZ"
    )


def connected(file: Path) -> sqlite3.Connection:
    """Open the database; its tables are made when it is new.

    The journal stays in memory: no second file is left beside it.
    """
    database = sqlite3.connect(file, timeout=10)
    database.execute("PRAGMA journal_mode = MEMORY")
    version = database.execute("PRAGMA user_version").fetchone()[0]
    if version > _VERSION:
        raise DriveError(f"{file} was written by a newer version of this program.", advice=_ADVICE)
    if version < _VERSION:
        kinds = {"int": "INTEGER", "float": "REAL", "str": "TEXT"}
        columns = {field.name: f"{field.name} {kinds[str(field.type)]} NOT NULL" for field in fields(LogEntry)}
        with database:
            if version == 0:
                database.execute(f"CREATE TABLE work ({', '.join(columns.values())})")
            for name in _SINCE_2 if version == 1 else ():
                database.execute(f"ALTER TABLE work ADD COLUMN {columns[name]} DEFAULT 0")
            database.execute(f"PRAGMA user_version = {_VERSION}")
    return database


@contextmanager
def translated(file: Path) -> Iterator[None]:
    """Turn what the database or the system says into our own error."""
    try:
        yield
    except (sqlite3.Error, OSError) as error:
        raise DriveError(f"The shop's record {file} cannot be used: {error}.", advice=_ADVICE) from error
