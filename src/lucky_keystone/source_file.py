"""A file of a source: read at any offset, tried again where it cannot be read, and watched for changes meanwhile."""

from __future__ import annotations

import errno
import os
import stat
import sys
import threading
from dataclasses import dataclass
from pathlib import Path

from . import positional
from .content import IMAGE_ORDER
from .errors import SourceError, naming

_READ_TRIES = 4
_PATIENT_READ = 2048
"""Bytes read at once where a read failed: a sector of an optical disc."""


class UnreadableSource(SourceError):
    """A place of a source could not be read, though it was tried several times."""

    def __init__(self, path: Path, offset: int, why: str) -> None:
        """`offset` in bytes of the file or device at `path`."""
        super().__init__(
            f"{path} cannot be read at byte {offset:,}, in {_READ_TRIES} tries: {why}.",
            advice="Clean the disc, try another drive, or get the file from elsewhere.",
        )
        self.path, self.offset = path, offset


class SourceFile:
    """A file on this computer that contents are ranges of. It is opened when first read and is never written.

    Whenever it is opened and closed it has to be the file it was: same device and number, size and time.
    """

    def __init__(self, path: Path, facts: os.stat_result | None = None, *, order: str = IMAGE_ORDER) -> None:
        """`facts` where a folder listing has them already; `order` as `RangedFile.order`.

        Raises SourceError for what is no file and no device.
        """
        self.path, self.order = path, order
        self._descriptor: int | None = None
        self._users = 0
        self._lock = threading.Lock()  # drives that were too slow for a pass read the source beside it
        with naming(str(path), SourceError, advice="Check the path and that you may read it."):
            facts = facts or path.stat()
            self._refuse_pipes(facts)
            self._seen = _Seen.of(facts)
            self.size = facts.st_size if stat.S_ISREG(facts.st_mode) else self._measure()

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

    def _measure(self) -> int:
        with self.path.open("rb") as stream:
            return stream.seek(0, os.SEEK_END)

    def acquire(self) -> int:
        """Open the file for one more user and return its descriptor."""
        with self._lock:
            if self._descriptor is None:
                with naming(str(self.path), SourceError, advice="The source must stay in place while it is used."):
                    descriptor = positional.open_to_read_through(self.path)
                try:
                    self._refuse_changes(os.fstat(descriptor))
                except SourceError:
                    os.close(descriptor)
                    raise
                self._descriptor = descriptor
            self._users += 1
            return self._descriptor

    def release(self, descriptor: int) -> None:
        """One user less; the last one closes the file. Raises SourceError when it was changed meanwhile."""
        with self._lock:
            self._users -= 1
            if self._users == 0 and self._descriptor is not None:
                facts = os.fstat(self._descriptor)
                os.close(self._descriptor)
                self._descriptor = None
                self._refuse_changes(facts)

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        """Fill `view` from `offset` (bytes) or raise SourceError; a bad place is tried several times."""
        done = 0
        while done < len(view):
            try:
                got = positional.read_into(descriptor, view[done:], offset + done)
            except OSError as error:
                if error.errno != errno.EIO:
                    raise SourceError(
                        f"{self.path}, offset {offset + done}: {error.strerror or error}.",
                        advice="The source cannot be read there.",
                    ) from error
                got = self._try_again(descriptor, offset + done, view[done:][:_PATIENT_READ])
            if got == 0:
                raise SourceError(
                    f"{self.path} ends at byte {offset + done}; {len(view) - done} more bytes were expected there.",
                    advice="It is incomplete or changed while it was read: copy or download it again.",
                )
            done += got

    def _try_again(self, descriptor: int, offset: int, view: memoryview) -> int:
        """Read the front of `view` once more, and again; only as much as one bad sector spoils."""
        for _ in range(_READ_TRIES - 1):
            try:
                return positional.read_into(descriptor, view, offset)
            except OSError as error:
                if error.errno != errno.EIO:
                    raise UnreadableSource(self.path, offset, error.strerror or str(error)) from error
                last = error
        raise UnreadableSource(self.path, offset, last.strerror or str(last)) from last

    def _refuse_pipes(self, facts: os.stat_result) -> None:
        if not stat.S_ISREG(facts.st_mode) and not stat.S_ISBLK(facts.st_mode) and sys.platform != "win32":
            raise SourceError(
                f"{self.path} is neither a file nor a disk.", advice="Use a file, a folder or an optical drive."
            )

    def _refuse_changes(self, facts: os.stat_result) -> None:
        self._refuse_pipes(facts)
        if _Seen.of(facts) != self._seen:
            raise SourceError(
                f"{self.path} changed or was replaced while in use.",
                advice="Do not touch the source until the command has finished; run it again.",
            )


@dataclass(frozen=True)
class _Seen:
    """What has to stay the same of a file that is read."""

    device: int
    number: int
    size: int
    modified: int
    """Nanoseconds; 0 of a device, whose node changes for reasons of its own."""

    @classmethod
    def of(cls, facts: os.stat_result) -> _Seen:
        if stat.S_ISBLK(facts.st_mode):
            return cls(facts.st_dev, facts.st_ino, facts.st_rdev, 0)
        return cls(facts.st_dev, facts.st_ino, facts.st_size, facts.st_mtime_ns)
