"""The file of the shop's record: a local SQLite database, opened for one piece of work at a time.

Several programs may use it at once. It is the technician's memory and nothing depends on it: one that is damaged is
set aside under another name, and the work continues with a new one.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import TypeVar

from ..common import places
from ..common.errors import DriveError
from ..common.invoker import give_to_user, make_folder
from ..common.notes import note
from ..common.positional import rename

_VERSION = 4
_ADVICE = "Name another file with LUCKY_KEYSTONE_LOG=FILE, or leave the record out with LUCKY_KEYSTONE_LOG=off."
_PATIENCE = 10
"""Seconds that one program waits for another."""
_STEPS: dict[int, tuple[str, ...]] = {
    1: (
        "CREATE TABLE work (moment TEXT NOT NULL, command TEXT NOT NULL, result TEXT NOT NULL, tag TEXT NOT NULL, "
        "model TEXT NOT NULL, serial TEXT NOT NULL, size INTEGER NOT NULL, source TEXT NOT NULL, label TEXT NOT NULL, "
        "fingerprint TEXT NOT NULL, bytes_written INTEGER NOT NULL, seconds REAL NOT NULL, retries INTEGER NOT NULL, "
        "detail TEXT NOT NULL)",
    ),
    2: (
        "ALTER TABLE work ADD COLUMN reading INTEGER NOT NULL DEFAULT 0",
        "ALTER TABLE work ADD COLUMN writing INTEGER NOT NULL DEFAULT 0",
    ),
    3: (
        "CREATE TABLE IF NOT EXISTS kept (drive TEXT PRIMARY KEY, moment TEXT NOT NULL, manifest BLOB NOT NULL)",
        "CREATE TABLE built (build TEXT PRIMARY KEY, moment TEXT NOT NULL, what TEXT NOT NULL)",
        "CREATE INDEX work_by_drive ON work (tag, serial, moment)",
    ),
    4: ("ALTER TABLE work ADD COLUMN blamed INTEGER NOT NULL DEFAULT 0",),
}
"""What brings a record of the version before to each version."""
_DAMAGED = (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)
_NO_VERSION = "no version of ours"
_NOT_OURS = (
    *("no such table", "no such column", "already exists", "duplicate column", "unsupported file format"),
    _NO_VERSION,
)
"""What the database says of a file that holds something else than ours, without calling that damaged."""
_T = TypeVar("_T")


def now() -> str:
    """Return the moment as entries carry it."""
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def in_record(work: Callable[[sqlite3.Connection], _T], otherwise: _T, *, make: bool, writes: bool = False) -> _T:
    """Do a piece of work in the record, in one transaction; return `otherwise` where there is none.

    `make`: a record that is missing is made. `writes`: one that is there is changed. A damaged one is set aside, which
    a warning says, and the work is done once more without it. Raises DriveError when it cannot be used.
    """
    file = places.record()
    if file is None:
        return otherwise
    for is_last in (False, True):
        try:
            if not make and not file.exists():
                return otherwise
            return _at(file, work, writes=make or writes)
        except (sqlite3.Error, UnicodeDecodeError, OSError) as error:
            if is_last or not _is_damaged(error):
                raise _unusable(file, str(error)) from error
            _set_aside(file, error)
    raise AssertionError


def _at(file: Path, work: Callable[[sqlite3.Connection], _T], *, writes: bool) -> _T:
    if writes:
        make_folder(file.parent)
    new = not file.exists()
    with closing(sqlite3.connect(file, timeout=_PATIENCE, isolation_level=None)) as database:
        if new:
            give_to_user(file)
        database.text_factory = lambda text: text.decode("utf-8", "replace")  # a damaged text is one all the same
        # Who reads first and writes then is refused at once where another program writes; who begins so waits for it.
        # One that is only read may be on a read-only disk.
        is_older = 0 <= _version(database) < _VERSION
        database.execute("BEGIN IMMEDIATE" if writes or is_older else "BEGIN")
        try:
            _bring_up(database, file)
            done = work(database)
        except BaseException:
            if database.in_transaction:
                database.execute("ROLLBACK")
            raise
        database.execute("COMMIT")
    return done


def _bring_up(database: sqlite3.Connection, file: Path) -> None:
    """Make the tables, or those that a record of an older version does not have."""
    version = _version(database)
    if version < 0:
        raise sqlite3.DatabaseError(_NO_VERSION)
    if version > _VERSION:
        raise _unusable(file, "a newer version of this program wrote it")
    for step in range(version + 1, _VERSION + 1):
        for statement in _STEPS[step]:
            database.execute(statement)
    if version < _VERSION:
        database.execute(f"PRAGMA user_version = {_VERSION}")


def _version(database: sqlite3.Connection) -> int:
    return int(database.execute("PRAGMA user_version").fetchone()[0])


def _is_damaged(error: Exception) -> bool:
    """Tell damage from a record that is busy, full or may not be written; one without our tables is damaged too."""
    if isinstance(error, UnicodeDecodeError):  # of a name in the database's own tables
        return True
    code = getattr(error, "sqlite_errorcode", None)
    return (code is not None and code & 0xFF in _DAMAGED) or any(words in str(error) for words in _NOT_OURS)


def _set_aside(file: Path, error: Exception) -> None:
    stem = f"{file.stem}-damaged-{now().replace(':', '').replace('-', '')}"
    aside = file.with_name(f"{stem}{file.suffix}")
    number = 1
    while aside.exists():
        number += 1
        aside = file.with_name(f"{stem}-{number}{file.suffix}")
    try:
        rename(file, aside, replace=False)
    except OSError as refused:
        raise _unusable(file, f"it is damaged ({error}), and cannot be set aside: {refused}") from refused
    note(f"The shop's record {file} is damaged ({error}). It was set aside as {aside}, and a new one is begun.")


def _unusable(file: Path, why: str) -> DriveError:
    return DriveError(f"The shop's record {file} cannot be used: {why}.", advice=_ADVICE)
