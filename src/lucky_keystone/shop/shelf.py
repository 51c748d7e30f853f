"""The shop's shelf: manifests of drives that have no room for them, kept in the shop's record on this computer.

A record that cannot be used never stops the work: a warning says it, and nothing is kept.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from typing import TypeVar

from ..common.errors import DriveError
from ..common.notes import note
from .file import in_record, now

_T = TypeVar("_T")


class ShopShelf:
    """What the record keeps for one drive. With the record switched off nothing is kept."""

    def __init__(self, drive: str) -> None:
        """`drive` names it for good: hardware, or the path of an image file."""
        self._drive = drive
        self._last: bytes | None = None
        """What was put here by this run: known even where no record is kept."""
        self._trouble = ""
        """What was said already: each progress of a build is put here."""

    def get(self) -> bytes | None:
        """Return the manifest, None when there is none."""
        query = "SELECT manifest FROM kept WHERE drive = ?"
        row = self._in_record(lambda record: record.execute(query, (self._drive,)).fetchone())
        return row[0] if row and isinstance(row[0], bytes) else self._last

    def put(self, data: bytes) -> None:
        """Keep a manifest, or the progress of a build."""
        self._last, values = data, (self._drive, now(), data)
        self._in_record(
            lambda record: record.execute("INSERT OR REPLACE INTO kept VALUES (?, ?, ?)", values), make=True
        )

    def clear(self) -> None:
        """Keep nothing of this drive any more."""
        self._last, statement = None, "DELETE FROM kept WHERE drive = ?"
        self._in_record(lambda record: record.execute(statement, (self._drive,)), writes=True)

    def _in_record(
        self, work: Callable[[sqlite3.Connection], _T], *, make: bool = False, writes: bool = False
    ) -> _T | None:
        try:
            return in_record(work, None, make=make, writes=writes)
        except DriveError as trouble:
            if trouble.message != self._trouble:
                note(f"{trouble.message} {trouble.advice}")
                self._trouble = trouble.message
            return None
