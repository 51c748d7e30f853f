"""A file on its way: its bytes beside its final name, and a journal of what of it surely lies on the disk.

NAME.unfinished         the bytes; holes are still to come
NAME.unfinished.json    the journal, written after the data was flushed
NAME                    appears once, by renaming, when size and sum are right
NAME.aside              what lay under the first of these names, and is not part of it as far as can be told
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

from ..common import positional
from ..common.errors import DriveError, ProtectError, SourceError, naming
from ..common.invoker import give_to_user
from ..common.notes import note
from ..common.outputs import name_whole
from ..common.shell import quoted

BLOCK = 4 << 20
UNFINISHED = ".unfinished"
_ASIDE = ".aside"
_FORMAT = 1
_LARGEST_JOURNAL = 8 << 20
_LARGEST = 1 << 50
_FLUSHED_EVERY = 8 << 20
_SECONDS = 1.0
_TRIES = 2
_ROOM = "Make room there, or name another place with --into."
Bytes = Annotated[int, msgspec.Meta(ge=0, le=_LARGEST)]


class DownloadJournal(msgspec.Struct, kw_only=True):
    """What is known of an unfinished file. Keys of later versions are passed over: every block is compared anyway."""

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
    """BLAKE3 of each whole block of 4 MiB that is here, '' for one that is not; some may lie behind `length`."""
    tail: str = ""
    """BLAKE3 of what lies between the last whole block and `length`."""

    def claims(self) -> Iterator[tuple[int, int, str]]:
        """Yield number, bytes and BLAKE3 of each block that is said to be here."""
        whole, rest = divmod(self.length, BLOCK)
        blocks = [(number, BLOCK, expected) for number, expected in enumerate(self.blocks) if expected]
        yield from sorted([*blocks, (whole, rest, self.tail)] if rest else blocks)


class Download:
    """The unfinished file of one final name; nobody else writes it meanwhile.

    What lies there already is used as far as its blocks have their hashes, and is never removed: where none has, it is
    set aside before the first byte is written.
    """

    def __init__(self, path: Path, *, with_sha1: bool = False) -> None:
        """Raises ProtectError where the name is taken, or another run has it; DriveError where it cannot be written."""
        self.path = path
        self.unfinished = path.with_name(path.name + UNFINISHED)
        self._journal_path = path.with_name(path.name + UNFINISHED + ".json")
        if os.path.lexists(path):
            raise ProtectError(f"{path} exists already.", advice="Move it away, or name another place with --into.")
        if not path.parent.is_dir():
            raise ProtectError(f"{path.parent} is not a folder.", advice="Name a folder that exists with --into.")
        self.set_aside: Path | None = None
        """Where a file was moved that lay there and is not part of this one."""
        self._is_new, self._is_foreign = False, False
        self._blocks: list[str] = []
        self._later: dict[int, tuple[int, str]] = {}
        """Bytes and BLAKE3, by number, of blocks that are here behind a gap."""
        from filelock import FileLock, Timeout  # nothing else here needs what it loads

        lock = path.with_name(path.name + UNFINISHED + ".lock")
        self._lock, was_there = FileLock(lock), os.path.lexists(lock)
        with naming(str(self.unfinished), DriveError, advice=_ROOM):
            try:
                try:
                    self._lock.acquire(timeout=0)
                except Timeout:
                    if was_there:
                        raise
                    self._lock.acquire(timeout=0)  # nobody had it: the system may have failed once
            except Timeout as error:
                raise ProtectError(f"{path} is being fetched by another run.", advice="Wait for its end.") from error
            except OSError:
                if not was_there:
                    self._release()
                raise
            self._descriptor: int | None = None
            self._methods = ("sha256", "sha1") if with_sha1 else ("sha256",)
            self._length, self._hash = 0, blake3()
            self._sums = self._no_sums()
            self._unflushed, self._flushed_at = 0, time.monotonic()
            self.damaged = 0
            """Bytes that the journal claims, and that no longer have their hash."""
            try:
                self.journal, knows_it = self._read_journal()
                if os.path.lexists(self.unfinished):
                    self._open_existing(knows_it)
                else:
                    self._make()
            except BaseException:
                self.__exit__(None, None, None)
                raise

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._close()
        if self._is_new and not self.held:  # nothing to go back to
            self.unfinished.unlink(missing_ok=True)
            self._journal_path.unlink(missing_ok=True)
        self._release()

    @property
    def length(self) -> int:
        """Bytes from the front that are here."""
        return self._length

    @property
    def held(self) -> int:
        """Bytes that are here, those behind a gap as well."""
        return self._length + sum(size for size, _ in self._later.values())

    def spans(self) -> list[tuple[int, int]]:
        """Return start and size of each stretch that is here."""
        later = [(number * BLOCK, size) for number, (size, _) in sorted(self._later.items())]
        return [(0, self._length), *later] if self._length else later

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
        self._begin()
        with naming(str(self.unfinished), DriveError, advice=_ROOM):
            view, done = memoryview(data), 0
            while done < len(view):
                done += positional.write(self._open_file, view[done:], self._length + done)
        self._take(data)
        for number in [number for number in self._later if number * BLOCK < self._length]:
            del self._later[number]
        self._unflushed += len(data)
        if self._unflushed >= _FLUSHED_EVERY or time.monotonic() - self._flushed_at >= _SECONDS:
            self.flush()

    def gap_end(self) -> int | None:
        """Return the byte at which something follows that is here already; None where nothing does."""
        return min(self._later) * BLOCK if self._later else None

    def take_known(self) -> None:
        """Count blocks as read that follow what is here and are here already."""
        while self._length % BLOCK == 0 and (number := self._length // BLOCK) in self._later:
            size, expected = self._later.pop(number)
            data = self.read(self._length, size)
            if blake3(data).hexdigest() != expected:
                return
            self._take(data)

    def doubt_later(self) -> None:
        """Believe nothing any more that lies behind a gap."""
        self._later = {}

    def flush(self) -> None:
        """Have everything on the disk, and then in the journal. Raises DriveError."""
        if self._is_foreign:
            return
        with naming(str(self.unfinished), DriveError, advice=_ROOM):
            positional.flush(self._open_file)
            self.journal.length, self.journal.tail = self._length, self._hash.hexdigest()
            whole = {number: expected for number, (size, expected) in self._later.items() if size == BLOCK}
            behind = range(len(self._blocks), max(whole, default=-1) + 1)
            self.journal.blocks = [*self._blocks, *(whole.get(number, "") for number in behind)]
            keep_journal(self._journal_path, self.journal)
        self._unflushed, self._flushed_at = 0, time.monotonic()

    def keep_room(self, size: int) -> None:
        """Make sure that the disk can take all of it. Raises DriveError."""
        self._begin()
        free = shutil.disk_usage(self.path.parent).free
        lacking = size - self.held - free
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
        return self._sums[0].hexdigest()

    def sha1(self) -> str:
        """Return the SHA-1 of what is here, which it was made for."""
        return self._sums[1].hexdigest()

    def finish(self) -> None:
        """Give the whole file its name. Nothing can be read or written here afterwards."""
        self.flush()
        with naming(str(self.path), DriveError):
            positional.set_size(self._open_file, self._length)
            positional.flush(self._open_file)
            self._close()  # an open file cannot be renamed on every system
            name_whole(self.unfinished, self.path)
        try:
            self._journal_path.unlink(missing_ok=True)
        except OSError as error:  # the image is whole
            note(f"{self.path} is complete; the leftover {self._journal_path} could not be removed: {error.strerror}.")

    def start_over(self, aside: str = "") -> None:
        """Begin again; with `aside` what is here is kept under the name with this extension."""
        self._begin()
        with naming(str(self.unfinished), DriveError):
            if aside:
                positional.set_size(self._open_file, self._length)
                self._close()
                kept = free_name(self.path.with_name(self.path.name + aside))
                positional.rename(self.unfinished, kept, replace=False)
                self._make()
            self.journal = DownloadJournal(sha256=self.journal.sha256)
            self._forget()
            self.doubt_later()
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

    def _make(self) -> None:
        """Make the file, and a journal that claims nothing: so it is known as ours from its first byte on."""
        flags = positional.READ_WRITE | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0)
        self._descriptor = os.open(self.unfinished, flags, 0o666)
        self._is_new = True
        give_to_user(self.unfinished)
        keep_journal(self._journal_path, self.journal)

    def _open_existing(self, knows_it: bool) -> None:
        """Believe of what lies there what has its hash; `knows_it` says that there is a journal of it."""
        if not self.unfinished.is_file() or self.unfinished.is_symlink():
            raise ProtectError(f"{self.unfinished} is not a plain file.", advice="Move it away.")
        flags = positional.READ_WRITE | getattr(os, "O_NOFOLLOW", 0)
        self._descriptor = os.open(self.unfinished, flags)
        claims_any = any(True for _ in self.journal.claims())
        self.damaged = self._verify()
        is_empty = os.fstat(self._descriptor).st_size == 0 or (knows_it and not claims_any)
        self._is_foreign = not self.held and not is_empty
        if self._is_foreign:
            self._close()
            self.journal = DownloadJournal()

    def _begin(self) -> None:
        """Set aside what is there and not known, before the first byte is written."""
        if not self._is_foreign:
            return
        with naming(str(self.unfinished), DriveError, advice=_ROOM):
            self.set_aside = free_name(self.path.with_name(self.path.name + _ASIDE))
            positional.rename(self.unfinished, self.set_aside, replace=False)
            self._is_foreign = False
            self._set_journal_aside(self.set_aside)
            self._make()

    def _set_journal_aside(self, beside: Path) -> None:
        if os.path.lexists(self._journal_path):
            positional.rename(self._journal_path, free_name(beside.with_name(beside.name + ".json")), replace=False)

    def _read_journal(self) -> tuple[DownloadJournal, bool]:
        """Return the journal, and whether there is one; a file there that is not one is set aside."""
        if (found := journal_of(self.unfinished)) is not None:
            return found, True
        if not os.path.lexists(self.unfinished):  # else it goes with the file that it lies beside
            self._set_journal_aside(self.path.with_name(self.path.name + _ASIDE))
        return DownloadJournal(), False

    def _verify(self) -> int:
        """Believe of what is here what still has its hashes; return how many bytes were found damaged."""
        self._forget()
        damaged = 0
        for number, size, expected in self.journal.claims():
            data = self.read(number * BLOCK, size)
            if len(data) < size or blake3(data).hexdigest() != expected:
                damaged += size
            elif number * BLOCK == self._length:
                self._take(data)
            else:
                self._later[number] = size, expected
        return damaged

    def _take(self, data: bytes) -> None:
        """Count bytes as here, in the sums too."""
        for each in self._sums:
            each.update(data)
        view = memoryview(data)
        while view:
            piece = view[: BLOCK - self._length % BLOCK]
            self._hash.update(piece)
            self._length += len(piece)
            if self._length % BLOCK == 0:
                self._blocks.append(self._hash.hexdigest())
                self._hash = blake3()
            view = view[len(piece) :]

    def _forget(self) -> None:
        self._length = 0
        self._hash, self._sums = blake3(), self._no_sums()
        self._blocks = []

    def _no_sums(self) -> list[hashlib._Hash]:
        return [hashlib.new(method, usedforsecurity=False) for method in self._methods]

    def _release(self) -> None:
        """Let go of the lock. Failing to do so does not fail the work: the lock goes with the process."""
        if sys.platform != "win32":  # there it goes with the lock, and not before
            for _ in range(_TRIES):
                with suppress(OSError):
                    Path(self._lock.lock_file).unlink(missing_ok=True)
                    break
        with suppress(OSError):
            self._lock.release()


def keep_journal(path: Path, journal: DownloadJournal) -> None:
    """Write a journal, whose old one is there until the new one is whole. Raises OSError."""
    beside = path.with_name(path.name + ".new")
    try:
        with beside.open("wb") as out:
            out.write(msgspec.json.format(msgspec.json.encode(journal), indent=1))
            out.flush()
            positional.flush(out.fileno())
        give_to_user(beside)
        positional.rename(beside, path, replace=True)
    except BaseException:
        with suppress(OSError):
            beside.unlink(missing_ok=True)
        raise


def journal_of(unfinished: Path) -> DownloadJournal | None:
    """Return the journal of an unfinished file; None where there is none that can be read. Raises OSError."""
    path = unfinished.with_name(unfinished.name + ".json")
    try:
        if path.stat().st_size > _LARGEST_JOURNAL:
            return None
        found = msgspec.json.decode(path.read_bytes(), type=DownloadJournal)
    except (FileNotFoundError, msgspec.DecodeError, UnicodeDecodeError):
        return None
    return found if found.format == _FORMAT else None


def free_name(path: Path) -> Path:
    """Return the path, or one with a number behind it where that is taken."""
    return next(each for each in _names(path) if not os.path.lexists(each))


def _names(path: Path) -> Iterator[Path]:
    yield path
    number = 2
    while True:
        yield path.with_name(f"{path.name}-{number}")
        number += 1


def refuse_unfinished(path: Path) -> None:
    """Raise SourceError for a file that is still on its way, with how much of it is here and how to continue."""
    journal = None
    if path.name.endswith(UNFINISHED):
        with suppress(OSError):
            journal = journal_of(path)
    if journal is None:
        return
    part = (
        f"{journal.length / journal.size:.0%} of it is here" if journal.size else f"{journal.length:,} bytes are here"
    )
    raise SourceError(
        f"{path} is not finished: {part}.",
        advice=f"Continue with: lucky-keystone fetch LINK --into {quoted(str(path).removesuffix(UNFINISHED))}",
    )
