"""What marks overwrite is kept on this computer until it is back on the drive: one file per drive, written before them.

header   32 bytes   magic, nonce of the marks, zeros
entry    32 bytes   offset on the drive, size, hash of the bytes that follow
         size       the bytes that were there

An entry that is cut off at the file's end was not followed by marks: it is left out.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Protocol

from blake3 import blake3

from ..common import positional
from ..common.errors import DriveError, naming
from ..common.invoker import give_to_user, make_folder
from ..common.later import np
from ..common.outputs import flush_folder
from ..common.record import Record, raw, record, u32, u64
from ..drives.medium import Medium
from .marks import CHUNK, Marker

Entry = tuple[int, bytes]
"""A place on the drive (byte), and what was there; whole chunks."""

_SECTOR = 512
_LISTED = 3


@record(size=32)
class MarksHeader(Record):
    """First bytes of a journal, little endian."""

    magic: bytes = raw(0, 8, "LKEYJRN1", default=b"LKEYJRN1")
    nonce: bytes = raw(8, 16, "of the marks of this run")
    padding: bytes = raw(24, 8, "zero", default=bytes(8))


@record(size=32)
class MarksEntry(Record):
    """In front of the bytes that were read from a place."""

    offset: int = u64(0, "bytes from the drive's start")
    size: int = u32(8, "bytes that follow")
    padding: bytes = raw(12, 4, "zero", default=bytes(4))
    digest: bytes = raw(16, 16, "front of the BLAKE3 of the bytes that follow")


class MarksJournal(Protocol):
    """Keeps what is about to be overwritten."""

    def keep(self, nonce: bytes, entries: Sequence[Entry]) -> None:
        """Return when the entries are safe. Raises DriveError when they cannot be kept."""

    def clear(self) -> None:
        """Everything is back: keep nothing any more."""


class NoJournal:
    """Keeps nothing: for drives that are going to be erased, and in memory."""

    def keep(self, nonce: bytes, entries: Sequence[Entry]) -> None:
        return None

    def clear(self) -> None:
        return None


class FileJournal:
    """A journal in a file, which is there only while something has to be put back."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def keep(self, nonce: bytes, entries: Sequence[Entry]) -> None:
        advice = "Make room there: without it nothing is written to the drive."
        with naming(str(self.path), DriveError, advice=advice):
            make_folder(self.path.parent)
            is_new = not self.path.exists()
            with self.path.open("ab") as stream:
                if is_new:
                    give_to_user(self.path)
                    stream.write(MarksHeader(nonce=nonce).pack())
                for offset, data in entries:
                    stream.write(MarksEntry(offset=offset, size=len(data), digest=_digest(data)).pack())
                    stream.write(data)
                stream.flush()
                positional.flush(stream.fileno())
            if is_new:
                flush_folder(self.path.parent)

    def read(self) -> tuple[Marker, list[Entry]] | None:
        """Return the marks of the run that was cut off and what they overwrote; None when there was none."""
        if not self.path.exists():
            return None
        with naming(str(self.path), DriveError, advice="It holds what marks overwrote on a drive: make it readable."):
            data = self.path.read_bytes()
        entries: list[Entry] = []
        at = MarksHeader.SIZE
        if len(data) < at or data[:8] != b"LKEYJRN1":
            return None
        while at + MarksEntry.SIZE <= len(data):
            head = MarksEntry.unpack(data, at)
            at += MarksEntry.SIZE
            old = data[at : at + head.size]
            if len(old) != head.size or _digest(old) != head.digest or len(old) % CHUNK:
                break
            entries.append((head.offset, old))
            at += head.size
        return Marker(MarksHeader.unpack(data).nonce), entries

    def clear(self) -> None:
        with naming(str(self.path), DriveError, advice="Remove it by hand: everything in it is back on the drive."):
            self.path.unlink(missing_ok=True)


def put_back(medium: Medium, marker: Marker, entries: Sequence[Entry]) -> list[int]:
    """Put back what `marker`'s marks overwrote, the last first; return the places (bytes) where that did not work.

    Only sectors that still hold the very mark that was written there are written: what others wrote since stays, and
    so does what a fake never took.
    """
    medium.forget_cache()
    touched: list[Entry] = []
    for place, old in reversed(entries):
        if place + len(old) > medium.size:
            continue
        now = _read(medium, place, len(old))
        wanted = old if now is None else _without_marks(now, old, marker.made(place, len(old)))
        if wanted != now:
            touched.append((place, old))
            _try(lambda place=place, wanted=wanted: medium.write_at(place, memoryview(wanted)))  # type: ignore[misc]
    _try(medium.flush)
    medium.forget_cache()
    return [place for place, old in touched if not _is_back(medium, marker, place, old)]


def refuse_lost(failed: Sequence[int], journal: MarksJournal) -> None:
    """Raise DriveError when something could not be put back, saying where it is kept."""
    if not failed:
        return
    listed = ", ".join(f"{place:,}" for place in failed[:_LISTED]) + (" and more" if len(failed) > _LISTED else "")
    kept = f" What was there is kept in {journal.path}." if isinstance(journal, FileJournal) else ""
    raise DriveError(
        f"What the marks overwrote could not be put back at {len(failed)} places (from byte {listed}).{kept}",
        advice="Plug the drive in again and run 'lucky-keystone gauge DRIVE --restore'.",
    )


def _is_back(medium: Medium, marker: Marker, place: int, old: bytes) -> bool:
    now = _read(medium, place, len(old))
    return now is not None and _without_marks(now, old, marker.made(place, len(old))) == now


def _without_marks(now: bytes, old: bytes, marks: bytes) -> bytes:
    """Return `now` with what was there before in every sector that holds its mark."""
    found, mark, before = (np.frombuffer(data, np.uint8).reshape(-1, _SECTOR) for data in (now, marks, old))
    marked = (found == mark).all(axis=1)
    return np.where(marked[:, None], before, found).tobytes() if marked.any() else now


def _read(medium: Medium, offset: int, size: int) -> bytes | None:
    try:
        return medium.read_at(offset, size)
    except DriveError:
        return None


def _try(action: Callable[[], None]) -> None:
    try:
        action()
    except DriveError:
        return  # what did not work is found by reading it


def _digest(data: bytes) -> bytes:
    return blake3(data).digest()[:16]
