"""An image file standing for a drive, opened for reading or writing; a device, for reading only."""

from __future__ import annotations

import errno
import os
import shutil
import stat
import sys
from contextlib import AbstractContextManager, suppress
from pathlib import Path
from types import TracebackType
from typing import Self

from ..common import positional
from ..common.errors import DriveError, ProtectError, naming
from ..common.invoker import as_administrator, give_to_user
from ..common.os_errors import Trouble, trouble
from ..common.units import shown_size
from .failures import doing

_ZEROS = bytes(1 << 20)
_TELLS_HOLES = hasattr(os, "SEEK_DATA")
_RIGHTS = f"Check the path. To read a drive itself, run it again {as_administrator()}."
_DIRECT = 64 << 10  # bytes from which writing past the cache pays


class ImageFile:
    """An open image file; a device too where it is only read.

    `write` opens it for writing, locked against a second writer.
    """

    def __init__(self, path: Path, *, write: bool = False) -> None:
        self.path = path
        with naming(str(path), DriveError, advice=_RIGHTS):
            self._descriptor = _open_alone(path) if write else os.open(path, positional.READ_ONLY)
            positional.read_far_ahead(self._descriptor)
        try:
            with naming(str(path), DriveError, advice=_RIGHTS):
                if write:
                    _refuse_all_but_files(path, os.fstat(self._descriptor).st_mode)
                    _refuse_attached(path, os.fstat(self._descriptor))
                self._direct = self._open_direct() if write else None
                self.size = positional.size_of(self._descriptor)
        except BaseException:
            os.close(self._descriptor)
            raise

    @classmethod
    def make(cls, path: Path, size: int, needed: int | None = None) -> Self:
        """Make a new image file of `size` bytes, all zero and taking no room yet where the file system can do that.

        Refuses an existing file, unless it holds nothing: its making was cut off then. Raises DriveError where there is
        no room for it: for the `needed` bytes of it that will be written (none, when it is None), or for all of it.
        """
        with naming(str(path), DriveError, advice="Choose a place where a file of that size can be made."):
            try:
                descriptor = os.open(path, positional.READ_WRITE | os.O_CREAT | os.O_EXCL, 0o666)
            except FileExistsError:
                descriptor = os.open(path, positional.READ_WRITE | getattr(os, "O_NOFOLLOW", 0))
                if not stat.S_ISREG(os.fstat(descriptor).st_mode) or not positional.is_begun(path):
                    os.close(descriptor)
                    raise
            try:
                give_to_user(path)
                stores_zeros = not positional.make_sparse(descriptor)
                _refuse_no_room(path, size if stores_zeros else needed or 0, stores_zeros=stores_zeros)
                positional.set_size(descriptor, size)
            except BaseException:
                os.close(descriptor)
                path.unlink()
                raise
            os.close(descriptor)
        return cls(path, write=True)

    def _open_direct(self) -> int | None:
        """Open the file a second time, past the system's cache: less work, and what is written has been taken."""
        if not hasattr(os, "O_DIRECT"):
            return None
        try:
            descriptor = os.open(self.path, positional.READ_WRITE | os.O_DIRECT)
        except OSError:  # this file system has no such way
            return None
        if os.path.samestat(os.fstat(descriptor), self.stat()):
            return descriptor
        os.close(descriptor)  # the path now names something else
        return None

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the file; the lock goes with it."""
        if self._direct is not None:
            os.close(self._direct)
        os.close(self._descriptor)

    # -- reading -------------------------------------------------------------------------------------------------

    def readinto_at(self, offset: int, view: memoryview) -> None:
        """Fill `view` from byte `offset`. Raises DriveError when the file gives less."""
        if positional.read_hole(self._descriptor, self.path, view, offset, self._direct):
            return
        done = 0
        while done < len(view):
            with self._at(offset + done, "reading"):
                got = positional.read_into(self._descriptor, view[done:], offset + done)
            if got == 0:
                raise DriveError(
                    f"{self.path}: ends at byte {offset + done}; {len(view) - done} more were wanted.",
                    advice="The image file is incomplete.",
                )
            done += got

    def read_at(self, offset: int, size: int) -> bytes:
        """Return exactly `size` bytes from `offset`."""
        buffer = bytearray(size)
        self.readinto_at(offset, memoryview(buffer))
        return bytes(buffer)

    def forget_cache(self) -> None:
        """Drop this file's clean pages from the system's cache, where the system can be asked to."""
        if hasattr(os, "posix_fadvise"):
            os.posix_fadvise(self._descriptor, 0, 0, os.POSIX_FADV_DONTNEED)

    # -- writing -------------------------------------------------------------------------------------------------

    def write_at(self, offset: int, data: memoryview) -> None:
        """Write all of `data` at byte `offset`."""
        if offset + len(data) > self.size:
            raise AssertionError(f"write of {len(data)} bytes at {offset} reaches beyond {self.size}")
        while data:
            with self._at(offset, "writing"):
                done = self._write_some(data, offset)
            data, offset = data[done:], offset + done

    def _write_some(self, data: memoryview, offset: int) -> int:
        if self._direct is not None and len(data) >= _DIRECT and len(data) % 512 == 0 and offset % 512 == 0:
            try:
                return positional.write(self._direct, data, offset)
            except OSError as error:
                if error.errno != errno.EINVAL:  # EINVAL: place, length or buffer are not aligned enough here
                    raise
        return positional.write(self._descriptor, data, offset)

    def write_zeros(self, offset: int, size: int) -> None:
        """Make bytes zero; where the file has nothing stored, nothing is written and it stays sparse."""
        end = offset + size
        while offset < end:
            start, stop = self._stored(offset, end)
            for at in range(start, stop, len(_ZEROS)):
                zeros = memoryview(_ZEROS)[: min(len(_ZEROS), stop - at)]
                # Where nothing says what is stored, a hole is told by reading it.
                if _TELLS_HOLES or self.read_at(at, len(zeros)) != zeros:
                    self.write_at(at, zeros)
            offset = stop

    def _stored(self, offset: int, end: int) -> tuple[int, int]:
        """Return the first stretch from `offset` that has something stored, cut at `end`; empty at `end` for none."""
        if sys.platform == "win32":
            return offset, end
        try:
            start = min(os.lseek(self._descriptor, offset, os.SEEK_DATA), end)
            return start, min(os.lseek(self._descriptor, start, os.SEEK_HOLE), end) if start < end else end
        except OSError as error:
            if error.errno == errno.ENXIO:  # nothing stored up to the end of the file
                return end, end
            return offset, end

    def flush(self) -> None:
        """Return when everything written is on the disk under the file."""
        with self._at(0, "flushing"):
            positional.flush(self._descriptor)

    def stat(self) -> os.stat_result:
        """What the system says of the open file."""
        return os.fstat(self._descriptor)

    def _at(self, offset: int, action: str) -> AbstractContextManager[None]:
        is_reading = action == "reading"
        return doing(
            f"{self.path}, {action} at byte {offset}",
            advice="Look whether the disk under it is in order."
            if is_reading
            else "If the disk under it is full, make room there first.",
        )


def _open_alone(path: Path) -> int:
    """Open a file for writing, while no other program does. Raises ProtectError where one does, and OSError."""
    try:
        if sys.platform == "win32":
            from ..winapi.files import open_exclusive

            return open_exclusive(path)
        import fcntl

        descriptor = os.open(path, positional.READ_WRITE)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            os.close(descriptor)
            raise _taken(path) from error
    except OSError as error:
        if trouble(error) is Trouble.IN_USE:
            raise _taken(path) from error
        raise
    return descriptor


def _taken(path: Path) -> ProtectError:
    return ProtectError(f"{path} is being written by another program.", advice="Wait until it has finished.")


def _refuse_no_room(path: Path, taken: int, *, stores_zeros: bool) -> None:
    """Raise DriveError where the disk under a new file cannot take the bytes that it may take."""
    free = shutil.disk_usage(path.parent).free
    if taken <= free:
        return
    whole = " (the file system there stores zeros as well)" if stores_zeros else ""
    raise DriveError(
        f"{path} may take {shown_size(taken)}{whole}, and {shown_size(free)} are free there.",
        advice="Make room there, name a smaller --size, or choose a place on another disk.",
    )


def holds_holes(folder: Path) -> bool:
    """Tell whether large files take little room in a folder: whether its file system leaves out what is zero.

    Raises DriveError where no file can be made there.
    """
    from tempfile import TemporaryFile  # with all that it brings

    with (
        naming(str(folder), DriveError, advice="Choose a folder that can be written to."),
        TemporaryFile(dir=folder, buffering=0) as trial,  # it has no name that could stay
    ):
        return positional.make_sparse(trial.fileno())


def _refuse_attached(path: Path, facts: os.stat_result) -> None:
    """Raise ProtectError for a file that a loop device of this computer stands for (Linux): it may be mounted.

    Another name of the file (a hard link, another mount) is the same file.
    """
    for entry in Path("/sys/block").glob("loop*/loop/backing_file"):
        with suppress(OSError):
            backing = Path(entry.read_text("utf-8", "surrogateescape").rstrip("\n"))
            if os.path.samestat(backing.stat(), facts):
                device = f"/dev/{entry.parts[-3]}"
                raise ProtectError(
                    f"{path} is attached to this computer as {device}, and may be mounted.",
                    advice=f"Unmount it and detach it first (losetup --detach {device}), or write to {device} itself.",
                )


def _refuse_all_but_files(path: Path, mode: int) -> None:
    """Raise ProtectError for a device: those are opened by their host, behind its guards, and never as a file."""
    if not stat.S_ISREG(mode):
        raise ProtectError(
            f"{path} is neither a whole drive nor an image file.",
            advice="Name a drive by its tag: 'lucky-keystone drives' lists them.",
        )
