"""What mending replaces is kept in a file on this computer before the first byte is written.

header      64 bytes   magic, size of the drive, its sectors, size of the text
text                   JSON: the drive's name, the moment, what is done
entry       32 bytes   offset on the drive, size, whether the bytes there were zeros, hash of them
            size       the bytes that were there; none where they were zeros
            8 a sector BLAKE2b of what is written over each of them
mark        32 bytes   ready: everything is in the file; then written, or undone

Without the mark 'ready' nothing was written to the drive. With no later one the repair was interrupted.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import BinaryIO, Literal

import msgspec
from blake3 import blake3
from msgspec import Struct

from ..common import positional
from ..common.errors import DriveError, ProtectError, UsageError, naming
from ..common.invoker import give_to_user, make_folder
from ..common.later import np
from ..common.outputs import flush_folder
from ..common.progress import Progress
from ..common.record import Record, raw, record, u32, u64
from ..content.contents import SizedReadable
from ..drives.medium import Medium
from .steps import Step

_MAGIC = b"LKEYMND1"
_SUM = 8
"""Bytes of a sum of a sector (RFC 7693, a digest of that size): of many small pieces it is the fastest at hand."""
_ZEROS, _MARK = 1, 0x8000_0000
_READY, _WRITTEN, _UNDONE = b"ready", b"written", b"undone"
_ADVICE = "Make room there: without it nothing is written to the drive."
_WHICH = "'lucky-keystone mend --list' shows the undo files."
State = Literal["not begun", "cut off", "written", "undone"]


@record(size=64)
class MendJournalHeader(Record):
    """First bytes of a journal, little endian."""

    magic: bytes = raw(0, 8, "LKEYMND1", default=_MAGIC)
    drive_size: int = u64(8, "bytes")
    sector_size: int = u32(16, "bytes")
    text_size: int = u32(20, "bytes of the text")
    padding: bytes = raw(24, 40, "zero", default=bytes(40))


@record(size=32)
class MendJournalEntry(Record):
    """In front of what was at a place; or a mark, whose digest begins with its name."""

    offset: int = u64(0, "byte of the drive")
    size: int = u32(8, "bytes")
    flags: int = u32(12, "1: zeros, which are not stored; 80000000h: a mark", default=0)
    digest: bytes = raw(16, 16, "front of the BLAKE3 of the bytes that were there")


class JournalText(msgspec.Struct, frozen=True):
    """What a journal says of itself."""

    drive: str
    """Its path, or its device at the time."""
    name: str
    """Tag, or name of an image file."""
    moment: str
    what: list[str]


class Kept(Struct, frozen=True):
    """One place of the drive, as it was and as it is to be."""

    offset: int
    size: int
    place: int
    """Byte of the journal where the old bytes lie; 0 where they were zeros."""
    sums: int
    """Byte of the journal where the sums of the new sectors lie."""


# -- writing one -----------------------------------------------------------------------------------------------------


def keep(
    path: Path, text: JournalText, drive: SizedReadable, sector: int, steps: Sequence[Step], tell: Progress
) -> None:
    """Write the journal of `steps` and return when it is safe. Raises DriveError when it cannot be kept."""
    total, done = sum(step.size for step in steps), 0
    with naming(str(path), DriveError, advice=_ADVICE):
        make_folder(path.parent)
        with path.open("xb") as out:
            give_to_user(path)
            words = msgspec.json.encode(text)
            out.write(MendJournalHeader(drive_size=drive.size, sector_size=sector, text_size=len(words)).pack())
            out.write(words)
            was: dict[int, bytes] = {}
            for step in steps:
                for offset, data in step.pieces():
                    old = _before(drive, offset, len(data), sector, was)
                    _write_entry(out, offset, old, data, sector)
                    if isinstance(step.data, bytes):  # a later step may write the same sectors again
                        was |= {offset + at: data[at : at + sector] for at in range(0, len(data), sector)}
                    done += len(data)
                    tell("keeping what is replaced", done, total)
            _write_mark(out, _READY)
        flush_folder(path.parent)


def _before(drive: SizedReadable, offset: int, size: int, sector: int, was: dict[int, bytes]) -> bytes:
    """Return what is at a place when a step writes there, after the steps before it."""
    old = bytearray(drive.read_at(offset, size))
    for at in range(0, size, sector) if was else ():
        if (data := was.get(offset + at)) is not None:
            old[at : at + sector] = data
    return bytes(old)


def _write_entry(out: BinaryIO, offset: int, old: bytes, new: bytes, sector: int) -> None:
    is_zero = not any(old)
    entry = MendJournalEntry(
        offset=offset, size=len(old), flags=_ZEROS if is_zero else 0, digest=blake3(old).digest(length=16)
    )
    out.write(entry.pack())
    if not is_zero:
        out.write(old)
    out.write(_sums(new, sector))


def _sums(data: bytes, sector: int) -> bytes:
    return b"".join([_sum(data[at : at + sector]) for at in range(0, len(data), sector)])


def _sum(sector: bytes) -> bytes:
    return hashlib.blake2b(sector, digest_size=_SUM).digest()


def _write_mark(out: BinaryIO, name: bytes) -> None:
    out.write(MendJournalEntry(offset=0, size=0, flags=_MARK, digest=name.ljust(16, b"\0")).pack())
    out.flush()
    positional.flush(out.fileno())


# -- reading one -----------------------------------------------------------------------------------------------------


class MendJournal:
    """A journal that was kept."""

    def __init__(self, path: Path) -> None:
        """Raises UsageError where `path` is not a journal of a repair, or a damaged one."""
        self.path = path
        self._refusal = UsageError(f"{path} is not an undo file of 'mend', or is damaged.", advice=_WHICH)
        with naming(str(path), UsageError, advice=_WHICH), path.open("rb") as stream:
            self._length = os.fstat(stream.fileno()).st_size
            head = stream.read(MendJournalHeader.SIZE)
            if len(head) < MendJournalHeader.SIZE or head[:8] != _MAGIC:
                raise self._refusal
            self.header = MendJournalHeader.unpack(head)
            if self.header.sector_size not in (512, 4096) or self.header.text_size > self._length:
                raise self._refusal
            try:
                self.text = msgspec.json.decode(stream.read(self.header.text_size), type=JournalText)
            except (msgspec.DecodeError, UnicodeDecodeError) as error:
                raise self._refusal from error
            self.entries, self.state, self._end = self._read_entries(stream)

    def _read_entries(self, stream: BinaryIO) -> tuple[list[Kept], State, int]:
        """Return the entries, how far it came, and the byte behind what is whole."""
        entries: list[Kept] = []
        state: State = "not begun"
        states: dict[bytes, State] = {_READY: "cut off", _WRITTEN: "written", _UNDONE: "undone"}
        at, sector = stream.tell(), self.header.sector_size
        whole = at
        while at + MendJournalEntry.SIZE <= self._length:
            stream.seek(at)
            entry = MendJournalEntry.unpack(stream.read(MendJournalEntry.SIZE))
            at += MendJournalEntry.SIZE
            if entry.flags & _MARK:
                state = states.get(entry.digest.rstrip(b"\0"), state)
                whole = at
                continue
            inside = entry.offset % sector == 0 and entry.size % sector == 0
            if (
                not inside
                or not entry.size
                or entry.offset + entry.size > self.header.drive_size
                or state != "not begun"
            ):
                raise self._refusal
            stored = 0 if entry.flags & _ZEROS else entry.size
            sums = at + stored
            end = sums + _SUM * (entry.size // sector)
            if end > self._length:
                break  # it was cut off while it was written
            entries.append(Kept(entry.offset, entry.size, at if stored else 0, sums))
            at = whole = end
        return entries, state, whole

    def old(self, kept: Kept) -> bytes:
        """Return the bytes that were at a place. Raises UsageError where the journal has lost them."""
        if not kept.place:
            return bytes(kept.size)
        with naming(str(self.path), UsageError), self.path.open("rb") as stream:
            stream.seek(kept.place - MendJournalEntry.SIZE)
            entry = MendJournalEntry.unpack(stream.read(MendJournalEntry.SIZE))
            data = stream.read(kept.size)
        if blake3(data).digest(length=16) != entry.digest:
            raise self._refusal
        return data

    def fits(self, kept: Kept, now: bytes) -> list[bool]:
        """Tell of each sector at a place whether `now` is what was there, or what was written."""
        sector = self.header.sector_size
        with naming(str(self.path), UsageError), self.path.open("rb") as stream:
            stream.seek(kept.sums)
            sums = stream.read(_SUM * (kept.size // sector))
        old = self.old(kept)
        same = (np.frombuffer(now, np.uint8) == np.frombuffer(old, np.uint8)).reshape(-1, sector).all(axis=1)
        for number in np.flatnonzero(~same).tolist():
            piece = now[number * sector : (number + 1) * sector]
            same[number] = _sum(piece) == sums[_SUM * number : _SUM * (number + 1)]
        return list(map(bool, same))

    def mark(self, name: Literal["written", "undone"]) -> None:
        """Note how far it came."""
        with naming(str(self.path), DriveError, advice=_ADVICE), self.path.open("r+b") as out:
            out.truncate(self._end)  # behind it lies at most a mark that could not be completed
            out.seek(self._end)
            _write_mark(out, name.encode())

    def is_complete(self, medium: Medium) -> bool:
        """Tell whether a drive holds all that was written: only its end was not recorded."""
        seen: set[int] = set()
        sector = self.header.sector_size
        for kept in reversed(self.entries):  # of sectors that were written twice the later bytes count
            with naming(str(self.path), UsageError), self.path.open("rb") as stream:
                stream.seek(kept.sums)
                sums = stream.read(_SUM * (kept.size // sector))
            now = medium.read_at(kept.offset, kept.size)
            for number in range(kept.size // sector):
                place = kept.offset + number * sector
                piece = now[number * sector : (number + 1) * sector]
                if place not in seen and _sum(piece) != sums[_SUM * number : _SUM * (number + 1)]:
                    return False
                seen.add(place)
        return True


def pending(folder: Path, prefix: str) -> Iterator[MendJournal]:
    """Yield the journals in a folder of repairs that were interrupted; those that never began are removed."""
    for path in sorted(folder.glob(f"{prefix}*.mend")):
        try:
            journal = MendJournal(path)
        except UsageError:
            continue
        if journal.state == "not begun":
            with suppress(OSError):
                path.unlink()
        elif journal.state == "cut off":
            yield journal


def kept_in(folder: Path, prefix: str = "") -> list[MendJournal]:
    """Return the journals in a folder that something can be taken back by, the newest first."""
    found: list[MendJournal] = []
    for path in folder.glob(f"{prefix}*.mend"):
        with suppress(UsageError):
            found.append(MendJournal(path))
    return sorted((each for each in found if each.state != "not begun"), key=_by_moment, reverse=True)


def _by_moment(journal: MendJournal) -> tuple[str, int, str]:
    """Of several within one second the later ones have a number behind it."""
    return journal.text.moment, len(journal.path.name), journal.path.name


def finished_before(folder: Path, moment: str) -> list[Path]:
    """Return the journals in a folder of repairs that were finished, or undone, before a moment."""
    found: list[Path] = []
    for path in sorted(folder.glob("*.mend")):
        try:
            journal = MendJournal(path)
        except UsageError:
            continue
        if journal.state in ("written", "undone") and journal.text.moment < moment:
            found.append(path)
    return found


# -- the way back ----------------------------------------------------------------------------------------------------


def refuse_changed(journal: MendJournal, medium: Medium) -> None:
    """Raise ProtectError where the drive is another one, or something else has written where the repair did."""
    if medium.size != journal.header.drive_size:
        raise ProtectError(
            f"{journal.path} belongs to a drive of {journal.header.drive_size:,} bytes, this one has {medium.size:,}.",
            advice="Name the drive that was mended.",
        )
    strange = _strange(journal, medium, journal.entries, None)
    if strange:
        strange = _strange(journal, medium, journal.entries, strange)
    if strange:
        first = min(strange)
        raise ProtectError(
            f"{len(strange):,} sectors, the first at byte {first:,}, hold neither what was there before the repair "
            "nor what it wrote: something else has changed the drive since.",
            advice="Nothing was written. If the drive was mended again later, undo that first.",
        )


def _strange(journal: MendJournal, medium: Medium, entries: Iterable[Kept], among: set[int] | None) -> set[int]:
    """Return sectors (bytes of the drive) that do not fit one of their entries; of those in `among`, that fit none."""
    sector = journal.header.sector_size
    strange: set[int] = set() if among is None else set(among)
    for kept in entries:
        places = range(kept.offset, kept.offset + kept.size, sector)
        if among is not None and not any(place in among for place in places):
            continue
        fits = journal.fits(kept, medium.read_at(kept.offset, kept.size))
        for place, is_fit in zip(places, fits, strict=True):
            if among is None and not is_fit:
                strange.add(place)
            elif among is not None and is_fit:
                strange.discard(place)
    return strange


def put_back(journal: MendJournal, medium: Medium, progress: Progress) -> int:
    """Bring back every byte that a repair replaced, the last first; return how many bytes were written.

    Raises ProtectError where something else has changed the drive since, DriveError where the drive does not take it.
    """
    medium.forget_cache()
    refuse_changed(journal, medium)
    total, done, written = sum(kept.size for kept in journal.entries), 0, 0
    before = None
    for kept in reversed(journal.entries):
        if before is not None and kept.offset != before:
            medium.flush()
        old = journal.old(kept)
        if medium.read_at(kept.offset, kept.size) != old:
            medium.write_at(kept.offset, memoryview(old))
            written += kept.size
        done += kept.size
        before = kept.offset - kept.size
        progress("putting back", done, total)
    medium.flush()
    medium.forget_cache()
    seen: set[int] = set()
    sector = journal.header.sector_size
    for kept in journal.entries:
        now, old = medium.read_at(kept.offset, kept.size), journal.old(kept)
        for at in range(0, kept.size, sector):
            place = kept.offset + at
            if place not in seen and now[at : at + sector] != old[at : at + sector]:
                raise DriveError(f"Byte {place:,} does not hold what was written back.", advice="The drive is failing.")
            seen.add(place)
    journal.mark("undone")
    return written
