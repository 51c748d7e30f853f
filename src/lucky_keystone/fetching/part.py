"""A file on its way: its bytes beside its final name, and a journal of what of it surely lies on the disk.

NAME.unfinished         the bytes; holes are still to come
NAME.unfinished.json    the journal, written after the data was flushed
NAME                    appears once, by renaming, when size and sum are right
"""

from __future__ import annotations

import hashlib
import os
import shutil
import sys
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from types import TracebackType
from typing import Annotated, Self

import msgspec
from blake3 import blake3
from filelock import FileLock, Timeout

from .. import positional
from ..errors import DriveError, ProtectError, SourceError, naming
from ..invoker import give_to_user
from ..outputs import name_whole
from ..shell import quoted

BLOCK = 4 << 20
ENDING = ".unfinished"
_FORMAT = 1
_LARGEST_JOURNAL = 8 << 20
_LARGEST = 1 << 50
_FLUSHED_EVERY = 8 << 20
_SECONDS = 1.0
_ROOM = "Make room there, or name another place with --into."
Bytes = Annotated[int, msgspec.Meta(ge=0, le=_LARGEST)]


class Journal(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """What is known of an unfinished file."""

    format: int = _FORMAT
    size: Bytes | None = None
    """Of the whole file; null where no server has told."""
    tag: str = ""
    """Strong tag of the file on the server."""
    changed: str = ""
    """When it was changed there, where that stands for its bytes."""
    sha256: str = ""
    """That the whole file is to have; empty where none was given."""
    origin: str = ""
    """Scheme, server and path of the link; nothing that is secret."""
    length: Bytes = 0
    """Bytes from the front that are surely on the disk."""
    blocks: list[str] = []
    """BLAKE3 of each whole block of 4 MiB among them."""
    tail: str = ""
    """BLAKE3 of what lies behind the last whole block."""


class Part:
    """The unfinished file of one final name; nobody else writes it meanwhile."""

    def __init__(self, path: Path) -> None:
        """Raises ProtectError where the name is taken, or another run has it; DriveError where it cannot be written."""
        self.path = path
        self.unfinished = path.with_name(path.name + ENDING)
        self._journal_path = path.with_name(path.name + ENDING + ".json")
        if os.path.lexists(path):
            raise ProtectError(f"{path} exists already.", advice="Move it away, or name another place with --into.")
        if not path.parent.is_dir():
            raise ProtectError(f"{path.parent} is no folder.", advice="Name a folder that exists with --into.")
        self._lock = FileLock(path.with_name(path.name + ENDING + ".lock"))
        with naming(str(self.unfinished), DriveError, advice=_ROOM):
            try:
                self._lock.acquire(timeout=0)
            except Timeout as error:
                raise ProtectError(f"{path} is being fetched by another run.", advice="Wait for its end.") from error
            try:
                self.journal = self._read_journal()
                self._descriptor: int | None = self._open()
            except BaseException:
                self._release()
                raise
        self._length, self._hash, self._whole = 0, blake3(), hashlib.sha256()
        self._unflushed, self._flushed_at = 0, time.monotonic()
        try:
            self.damaged = self._verify()
        except BaseException:
            self.__exit__(None, None, None)
            raise

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._close()
        if not self._length:  # nothing to go back to
            self.unfinished.unlink(missing_ok=True)
            self._journal_path.unlink(missing_ok=True)
        self._release()

    @property
    def length(self) -> int:
        """Bytes from the front that are here."""
        return self._length

    def read(self, offset: int, size: int) -> bytes:
        """Return bytes that are here."""
        with naming(str(self.unfinished), DriveError):
            found = memoryview(bytearray(size))
            done = 0
            while done < size and (came := positional.read_into(self._open_file, found[done:], offset + done)):
                done += came
            return bytes(found[:done])

    def append(self, data: bytes) -> None:
        """Write the next bytes; what is flushed is noted in the journal. Raises DriveError."""
        with naming(str(self.unfinished), DriveError, advice=_ROOM):
            view, done = memoryview(data), 0
            while done < len(view):
                done += positional.write(self._open_file, view[done:], self._length + done)
        self._take(data)
        self._unflushed += len(data)
        if self._unflushed >= _FLUSHED_EVERY or time.monotonic() - self._flushed_at >= _SECONDS:
            self.flush()

    def flush(self) -> None:
        """Have everything on the disk, and then in the journal. Raises DriveError."""
        with naming(str(self.unfinished), DriveError, advice=_ROOM):
            os.fsync(self._open_file)
            self.journal.length, self.journal.tail = self._length, self._hash.hexdigest()
            keep_journal(self._journal_path, self.journal)
        self._unflushed, self._flushed_at = 0, time.monotonic()

    def keep_room(self, size: int) -> None:
        """Make sure that the disk can take all of it. Raises DriveError."""
        free = shutil.disk_usage(self.path.parent).free
        lacking = size - self._length - free
        if lacking > 0:
            raise DriveError(
                f"These are {size:,} bytes, and {free:,} are free in {self.path.parent}.",
                advice="Make room there, or name another place with --into.",
            )
        with naming(str(self.unfinished), DriveError, advice=_ROOM):
            positional.set_size(self._open_file, size)

    def cut(self, length: int) -> None:
        """Forget what lies behind byte `length`: it is not what it should be."""
        self._forget()
        for at in range(0, length, BLOCK):
            self._take(self.read(at, min(BLOCK, length - at)))
        self.flush()

    def sha256(self) -> str:
        """Return the sum of what is here."""
        return self._whole.hexdigest()

    def finish(self) -> None:
        """Give the whole file its name. Nothing can be read or written here afterwards."""
        self.flush()
        with naming(str(self.path), DriveError):
            positional.set_size(self._open_file, self._length)
            os.fsync(self._open_file)
            self._close()  # an open file cannot be renamed on every system
            name_whole(self.unfinished, self.path)
            self._journal_path.unlink(missing_ok=True)

    def start_over(self, aside: str = "") -> None:
        """Begin again; with `aside` what is here is kept under the name with this ending."""
        with naming(str(self.unfinished), DriveError):
            if aside:
                positional.set_size(self._open_file, self._length)
                self._close()
                self.unfinished.rename(_free(self.path.with_name(self.path.name + aside)))
                self._descriptor = self._open()
            self.journal = Journal(sha256=self.journal.sha256)
            self._forget()
            self.flush()

    @property
    def _open_file(self) -> int:
        assert self._descriptor is not None
        return self._descriptor

    def _close(self) -> None:
        if self._descriptor is not None:
            os.close(self._descriptor)
            self._descriptor = None

    # -- opening -----------------------------------------------------------------------------------------------------

    def _open(self) -> int:
        flags = positional.READ_WRITE | os.O_CREAT | getattr(os, "O_NOFOLLOW", 0)
        if not os.path.lexists(self.unfinished):
            flags |= os.O_EXCL
        elif not self.unfinished.is_file() or self.unfinished.is_symlink():
            raise ProtectError(f"{self.unfinished} is no plain file.", advice="Move it away.")
        descriptor = os.open(self.unfinished, flags, 0o666)
        give_to_user(self.unfinished)
        return descriptor

    def _read_journal(self) -> Journal:
        try:
            if self._journal_path.stat().st_size > _LARGEST_JOURNAL:
                return Journal()
            found = msgspec.json.decode(self._journal_path.read_bytes(), type=Journal)
        except (FileNotFoundError, msgspec.DecodeError, UnicodeDecodeError):
            return Journal()
        return found if found.format == _FORMAT else Journal()

    def _verify(self) -> int:
        """Believe of what is here what still has its hashes; return how many bytes were found damaged."""
        claimed = self.journal.length
        wanted = [*self.journal.blocks[: claimed // BLOCK], self.journal.tail]
        self._forget()
        for number, expected in enumerate(wanted):
            size = min(BLOCK, claimed - number * BLOCK)
            data = self.read(number * BLOCK, size) if size > 0 else b""
            if not data or len(data) < size or blake3(data).hexdigest() != expected:
                break
            self._take(data)
        return claimed - self._length

    def _take(self, data: bytes) -> None:
        """Count bytes as here, in the sums too."""
        self._whole.update(data)
        view = memoryview(data)
        while view:
            piece = view[: BLOCK - self._length % BLOCK]
            self._hash.update(piece)
            self._length += len(piece)
            if self._length % BLOCK == 0:
                self.journal.blocks.append(self._hash.hexdigest())
                self._hash = blake3()
            view = view[len(piece) :]

    def _forget(self) -> None:
        self._length = 0
        self._hash, self._whole = blake3(), hashlib.sha256()
        self.journal.blocks = []

    def _release(self) -> None:
        if sys.platform != "win32":  # there it goes with the lock, and not before
            with suppress(OSError):
                Path(self._lock.lock_file).unlink(missing_ok=True)
        self._lock.release()


def keep_journal(path: Path, journal: Journal) -> None:
    """Write a journal, whose old one is there until the new one is whole. Raises OSError."""
    beside = path.with_name(path.name + ".new")
    with beside.open("wb") as out:
        out.write(msgspec.json.format(msgspec.json.encode(journal), indent=1))
        out.flush()
        os.fsync(out.fileno())
    give_to_user(beside)
    positional.rename(beside, path, replace=True)


def _free(path: Path) -> Path:
    return next(each for each in _names(path) if not os.path.lexists(each))


def _names(path: Path) -> Iterator[Path]:
    yield path
    number = 2
    while True:
        yield path.with_name(f"{path.name}-{number}")
        number += 1


def refuse_unfinished(path: Path) -> None:
    """Raise SourceError for a file that is still on its way, with how much of it is here and how to continue."""
    if not path.name.endswith(ENDING):
        return
    try:
        journal = msgspec.json.decode(path.with_name(path.name + ".json").read_bytes(), type=Journal)
    except (OSError, msgspec.DecodeError, UnicodeDecodeError):
        return
    part = (
        f"{journal.length / journal.size:.0%} of it is here" if journal.size else f"{journal.length:,} bytes are here"
    )
    raise SourceError(
        f"{path} is not finished: {part}.",
        advice=f"Continue with: lucky-keystone fetch LINK --into {quoted(str(path).removesuffix(ENDING))}",
    )
