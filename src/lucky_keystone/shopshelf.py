"""The shop's shelf: manifests of drives that have no room for them, kept in the shop's record on this computer."""

from __future__ import annotations

from contextlib import closing

from .invoker import give_to_user, make_folder
from .shoplog import connected, now, place, translated

_TABLE = "CREATE TABLE IF NOT EXISTS kept (drive TEXT PRIMARY KEY, moment TEXT NOT NULL, manifest BLOB NOT NULL)"


class ShopShelf:
    """What the record keeps for one drive. With the record switched off nothing is kept."""

    def __init__(self, drive: str) -> None:
        """`drive` names it for good: hardware, or the path of an image file."""
        self._drive = drive
        self._last: bytes | None = None
        """What was put here by this run: known even where no record is kept."""

    def get(self) -> bytes | None:
        """Return the manifest, None when there is none. Raises DriveError when the record cannot be read."""
        file = place()
        if file is None or not file.exists():
            return self._last
        with translated(file), closing(connected(file)) as database, database:
            database.execute(_TABLE)
            row = database.execute("SELECT manifest FROM kept WHERE drive = ?", (self._drive,)).fetchone()
        return bytes(row[0]) if row else self._last

    def put(self, data: bytes) -> None:
        """Keep a manifest, or the progress of a build. Raises DriveError when the record cannot be written."""
        self._last, file = data, place()
        if file is None:
            return
        with translated(file):
            make_folder(file.parent)
            new = not file.exists()
            with closing(connected(file)) as database, database:
                database.execute(_TABLE)
                database.execute("INSERT OR REPLACE INTO kept VALUES (?, ?, ?)", (self._drive, now(), data))
            if new:
                give_to_user(file)

    def clear(self) -> None:
        """Keep nothing of this drive any more."""
        self._last, file = None, place()
        if file is None or not file.exists():
            return
        with translated(file), closing(connected(file)) as database, database:
            database.execute(_TABLE)
            database.execute("DELETE FROM kept WHERE drive = ?", (self._drive,))
