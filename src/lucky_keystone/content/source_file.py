"""A file of a source: read at any offset, tried again where it cannot be read, and watched for changes meanwhile."""

from __future__ import annotations

import os
import stat
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from ..common import positional
from ..common.errors import SourceError, naming
from ..common.os_errors import Trouble, trouble
from .contents import IMAGE_ORDER
from .discs import no_disc, read_gently, wait_for_disc

PATIENT_READ = 2048
"""Bytes read at once where a read failed: a sector of an optical disc."""
_COMPARED = 10.0
"""Seconds after which a device that is opened again is looked at: whether the disc is still the same."""
_STAYS = "Check that it is there and that you may read it; it must stay as it is until the end."
_HEAD_AT, _HEAD = 32 << 10, 4 << 10  # where volume descriptors of discs begin (ECMA-119, 7.2.1)


class Trying(Struct, frozen=True):
    """How often an unreadable place is retried, and the pauses between tries."""

    tries: int
    pause: float


FILE_TRYING = Trying(4, 0.0)
DEVICE_TRYING = Trying(6, 1.0)


class UnreadableSource(SourceError):
    """A place of a source could not be read, though it was tried several times."""

    def __init__(self, path: Path, offset: int, why: str, tries: int) -> None:
        """`offset` in bytes of the file or device at `path`."""
        super().__init__(
            f"{path} cannot be read at byte {offset:,}, in {tries} tries: {why}.",
            advice="Clean the disc, try another drive, or get the file from elsewhere.",
        )
        self.path, self.offset = path, offset


class SourceFile:
    """A file on this computer that contents are ranges of. It is opened when first read and is never written.

    Whenever it is opened and closed it has to be the file it was: same device and number, size and time.
    """

    def __init__(self, path: Path, facts: os.stat_result | None = None, *, order: str = IMAGE_ORDER) -> None:
        """`facts` where a folder listing has them already; `order` as `RangedFile.order`.

        Raises SourceError for what is neither a file nor a device.
        """
        self.path, self.order = path, order
        self._descriptor: int | None = None
        self._users = 0
        self._lock = threading.Lock()  # drives that were too slow for a pass read the source beside it
        self.late: dict[int, int] = {}
        """Places (offset in bytes) that came only at the second try or later, and at which."""
        self.failure: SourceError | None = None
        """The first error of the system while it was read: what was found out since may be incomplete."""
        self._head, self._looked_at = b"", time.monotonic()
        with naming(str(path), SourceError, advice="Check the path and that you may read it."):
            self.is_device, self._seen, self.size = self._examine(facts)
        self.trying = DEVICE_TRYING if self.is_device else FILE_TRYING

    _is_cached = False
    """True for a device of this system, which it reads by pages."""
    is_device: bool
    """True for a drive with a disc, say: its end may not be readable."""
    size: int
    """Bytes."""

    @property
    def underlying(self) -> None:
        """It is a file as it is stored."""
        return

    @property
    def device(self) -> int:
        """Number of the device that the file lies on."""
        return self._seen.device

    @property
    def identity(self) -> tuple[int, int]:
        """What tells the file from all others of this computer, whatever it is called."""
        return self._seen.device, self._seen.number

    def _examine(self, facts: os.stat_result | None) -> tuple[bool, Seen, int]:
        """Return whether it is a device, what has to stay the same, and the size in bytes. Raises OSError."""
        is_device = self._is_cached = self.path.is_block_device()
        if is_device:
            wait_for_disc(self.path)
        facts = facts or self.path.stat()
        _refuse_pipes(self.path, facts)
        return is_device, Seen.of(facts), facts.st_size if stat.S_ISREG(facts.st_mode) else self._measure()

    def _measure(self) -> int:
        try:
            with self.path.open("rb") as stream:
                return positional.size_of(stream.fileno())
        except OSError as error:
            if trouble(error) is Trouble.NO_MEDIUM:
                raise no_disc(self.path) from error
            raise

    @cached_property
    def stored(self) -> int:
        """How many bytes of it are stored; the others are holes. Of a device all. Raises SourceError."""
        if self.is_device:
            return self.size
        descriptor = self.acquire()
        try:
            with naming(str(self.path), SourceError, advice=_STAYS):
                return positional.stored(descriptor)
        finally:
            self.release(descriptor)

    def _open(self) -> int:
        return positional.open_to_read_through(self.path)

    def _close(self, descriptor: int) -> None:
        os.close(descriptor)

    def _seen_now(self, descriptor: int) -> Seen:
        facts = os.fstat(descriptor)
        _refuse_pipes(self.path, facts)
        return Seen.of(facts)

    def acquire(self) -> int:
        """Open the file for one more user and return its descriptor."""
        with self._lock:
            if self._descriptor is None:
                with self._failing():
                    self._descriptor = self._opened()
            self._users += 1
            return self._descriptor

    def _opened(self) -> int:
        with naming(str(self.path), SourceError, advice=_STAYS):
            descriptor = self._open()
            try:
                self._refuse_changes(self._seen_now(descriptor))
                self._refuse_other_disc(descriptor)
            except BaseException:
                self._close(descriptor)
                raise
            return descriptor

    @contextmanager
    def _failing(self) -> Iterator[None]:
        """Remember the first error of the block."""
        try:
            yield
        except SourceError as error:
            self.failure = self.failure or error
            raise

    def release(self, descriptor: int) -> None:
        """One user less; the last one closes the file. Raises SourceError when it was changed meanwhile."""
        with self._lock:
            self._users -= 1
            if self._users == 0 and self._descriptor is not None:
                last, self._descriptor = self._descriptor, None
                with self._failing(), naming(str(self.path), SourceError, advice=_STAYS):
                    try:
                        seen = self._seen_now(last)
                    finally:
                        self._close(last)
                self._refuse_changes(seen)

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        """Fill `view` from `offset` (bytes) or raise SourceError; a bad place is tried several times."""
        done = 0
        while done < len(view):
            try:
                got = self._read(descriptor, view[done:], offset + done)
            except OSError as error:
                with self._failing():
                    if trouble(error) is not Trouble.PASSING:
                        raise self._unreadable(error, offset + done) from error
                    got = self._try_again(descriptor, offset + done, view[done:][:PATIENT_READ])
            if got == 0:
                raise SourceError(
                    f"{self.path} ends at byte {offset + done}; {len(view) - done} more bytes were expected there.",
                    advice="It is incomplete or changed while it was read: copy or download it again.",
                )
            done += got

    def _read(self, descriptor: int, view: memoryview, offset: int) -> int:
        """Fill the front of `view` from `offset`; return how many bytes came. Raises OSError."""
        if not self.is_device and positional.read_hole(descriptor, self.path, view, offset):
            return len(view)
        return positional.read_into(descriptor, view, offset)

    def _read_sector(self, descriptor: int, view: memoryview, offset: int) -> int:
        """Read a place once more, of a device without what lies around it."""
        alone = positional.read_alone(self.path, view, offset, PATIENT_READ) if self._is_cached else None
        return self._read(descriptor, view, offset) if alone is None else alone

    def _try_again(self, descriptor: int, offset: int, view: memoryview) -> int:
        """Read the front of `view` once more, and again; only as much as one bad sector spoils."""
        if self.is_device:
            read_gently(self.path)
        why = ""
        for number in range(2, self.trying.tries + 1):
            time.sleep(self.trying.pause)
            try:
                got = self._read_sector(descriptor, view, offset)
            except OSError as error:
                why = error.strerror or str(error)
                if trouble(error) in (Trouble.GONE, Trouble.NO_MEDIUM):
                    raise self._unreadable(error, offset) from error
                if trouble(error) is not Trouble.PASSING:
                    break
            else:
                self.late[offset] = number
                return got
        raise UnreadableSource(self.path, offset, why, self.trying.tries)

    def _unreadable(self, error: OSError, offset: int) -> SourceError:
        """Return the error for a place that is not worth trying again."""
        if trouble(error) is Trouble.NO_MEDIUM:
            return no_disc(self.path)
        if trouble(error) is Trouble.GONE:
            return SourceError(
                f"{self.path} was disconnected while it was read, at byte {offset:,}.",
                advice="Connect it again, and run the same command again.",
            )
        return SourceError(
            f"{self.path}, offset {offset}: {error.strerror or error}.", advice="The source cannot be read there."
        )

    def _refuse_other_disc(self, descriptor: int) -> None:
        """Raise SourceError where another disc is in the drive than before; that is looked at every now and then."""
        if not self.is_device or (self._head and time.monotonic() - self._looked_at < _COMPARED):
            return
        head = memoryview(bytearray(min(_HEAD, max(self.size - _HEAD_AT, 0))))
        try:
            self._read(descriptor, head, _HEAD_AT)
        except OSError:
            return
        self._looked_at = time.monotonic()
        if self._head and self._head != head:
            raise SourceError(
                f"Another disc is in {self.path} than before.",
                advice="Put the first one back, and run the command again.",
            )
        self._head = bytes(head)

    def _refuse_changes(self, seen: Seen) -> None:
        if seen != self._seen:
            raise SourceError(
                f"{self.path} changed or was replaced while in use.",
                advice="Do not touch the source until the command has finished; run it again.",
            )


def _refuse_pipes(path: Path, facts: os.stat_result) -> None:
    if not stat.S_ISREG(facts.st_mode) and not stat.S_ISBLK(facts.st_mode):
        raise SourceError(f"{path} is neither a file nor a disk.", advice="Use a file, a folder or an optical drive.")


class Seen(Struct, frozen=True):
    """What has to stay the same of a file that is read."""

    device: int
    number: int
    size: int
    modified: int
    """Nanoseconds; 0 of a device, whose node changes for reasons of its own."""

    @classmethod
    def of(cls, facts: os.stat_result) -> Seen:
        if stat.S_ISBLK(facts.st_mode):
            return cls(facts.st_dev, facts.st_ino, facts.st_rdev, 0)
        return cls(facts.st_dev, facts.st_ino, facts.st_size, facts.st_mtime_ns)
