"""Files on every host: read and written at an offset in one call, sparse where they hold nothing, one writer at a time.

Reading or writing at an offset is one call of the system, which threads that share a descriptor cannot come between.
"""

from __future__ import annotations

import errno
import mmap
import os
import stat
import sys
import time
from contextlib import suppress
from pathlib import Path

from .os_errors import Trouble, trouble

_PAUSES = (0.1, 0.2, 0.4, 0.8, 1.5)
"""Seconds between attempts to rename a file."""
_LONG = 200
"""Characters of a path from which Windows is asked with the long form; names are still added to it."""
_TRIED = (1 << 20) + 7
"""Bytes to which a new file is made longer to see what that takes: a size that nobody else gives a file."""
_MOST_STRETCHES = 4096
"""Stretches between holes that are looked at; what comes then is taken to be stored."""
_HOLE = 256 << 10
"""Bytes from which it is asked whether anything is stored before they are read."""
READ_ONLY = os.O_RDONLY | getattr(os, "O_BINARY", 0)
READ_WRITE = os.O_RDWR | getattr(os, "O_BINARY", 0)


def reachable(path: Path) -> Path:
    """Return the path in the form that Windows needs where it has more than 260 characters; elsewhere as it is."""
    if sys.platform != "win32":
        return path
    from ..winapi.names import extended

    text = str(path)
    return Path(extended(os.path.abspath(text))) if len(text) > _LONG else path  # noqa: PTH100 - it may not be there


def is_begun(path: Path) -> bool:
    """Tell whether a file holds nothing: it is empty, or its making was cut off while its file system was tried."""
    size = path.stat().st_size
    if size != _TRIED:
        return not size
    with path.open("rb") as stream:
        return not any(stream.read(_TRIED))


def rename(path: Path, target: Path, *, replace: bool) -> None:
    """Give a closed file another name; with `replace` also where a file has it. Raises OSError.

    On Windows it is tried for some seconds: who scans or indexes a new file holds it for a moment.
    """
    move = path.replace if replace else path.rename
    for pause in _PAUSES if sys.platform == "win32" else ():
        try:
            move(target)
        except OSError as error:
            if trouble(error) not in (Trouble.DENIED, Trouble.IN_USE):
                raise
            time.sleep(pause)
        else:
            return
    move(target)


def open_to_read_through(path: Path) -> int:
    """Open a file or disk for reading and tell the system, where it can be told, to read far ahead."""
    # A pipe in a file's place must not hold us up. An optical drive is asked to look at its disc.
    waiting = 0 if path.is_block_device() else getattr(os, "O_NONBLOCK", 0)
    descriptor = os.open(path, READ_ONLY | waiting)
    read_far_ahead(descriptor)
    return descriptor


def read_far_ahead(descriptor: int) -> None:
    """Tell the system that the file will be read front to back: on Linux it then reads twice as far ahead."""
    if hasattr(os, "posix_fadvise"):
        with suppress(OSError):  # not for what cannot be read at an offset
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_SEQUENTIAL)


def flush(descriptor: int) -> None:
    """Return when everything written is on the disk itself, as far as the system can be asked. Raises OSError."""
    if sys.platform == "darwin":  # there fsync(2) ends in the drive's own cache
        import fcntl

        with suppress(OSError):  # not of every file system, nor over every network
            fcntl.fcntl(descriptor, fcntl.F_FULLFSYNC)
            return
    getattr(os, "fdatasync", os.fsync)(descriptor)


_LINUX_SIZE = 0x8008_1272
"""BLKGETSIZE64 of <linux/fs.h>: bytes of a block device, in eight."""
DKIOCGETBLOCKSIZE, DKIOCGETBLOCKCOUNT = 0x4004_6418, 0x4008_6419
"""Of <sys/disk.h>, of macOS."""


def size_of(descriptor: int) -> int:
    """Return the bytes of an open file or device. Raises OSError.

    A device has no size of its own to stat, and on some systems no end that can be sought: it is asked by a call.
    """
    facts = os.fstat(descriptor)
    if stat.S_ISREG(facts.st_mode):
        return facts.st_size
    with suppress(OSError):
        if sys.platform == "linux":
            return _asked(descriptor, _LINUX_SIZE, 8)
        if sys.platform == "darwin":
            return _asked(descriptor, DKIOCGETBLOCKSIZE, 4) * _asked(descriptor, DKIOCGETBLOCKCOUNT, 8)
    return os.lseek(descriptor, 0, os.SEEK_END)


def _asked(descriptor: int, request: int, size: int) -> int:
    import fcntl

    return int.from_bytes(fcntl.ioctl(descriptor, request, bytes(size)), sys.byteorder)


def read_alone(path: Path, view: memoryview, offset: int, sector: int) -> int | None:
    """Fill the front of `view` with what one sector of a disk holds from byte `offset`, and read nothing beside it.

    Through its cache a system reads whole pages, of which a neighbouring sector can spoil all. Return how many bytes
    came; None where the system has no such way. Raises OSError.
    """
    if not hasattr(os, "O_DIRECT"):
        return None
    start = offset - offset % sector
    descriptor = os.open(path, READ_ONLY | os.O_DIRECT)
    try:
        with mmap.mmap(-1, sector) as page:  # direct reading needs memory that begins with a page
            came = os.preadv(descriptor, [page], start)
            count = max(min(came - (offset - start), len(view)), 0)
            view[:count] = page[offset - start : offset - start + count]
            return count
    finally:
        os.close(descriptor)


def read_hole(descriptor: int, path: Path, view: memoryview, offset: int, past: int | None = None) -> bool:
    """Fill `view` with what the system gives of a place where a file has nothing stored; False where that is not so.

    Such a place is read past the cache: to fill the cache's pages with zeros costs many times what reading costs. What
    is read is still what the system gives: that nothing is stored is believed in no other respect. `past` is a
    descriptor for that, where the file is open so already.
    """
    if not hasattr(os, "O_DIRECT") or len(view) < _HOLE:
        return False
    try:
        try:
            if os.lseek(descriptor, offset, os.SEEK_DATA) < offset + len(view):
                return False
        except OSError as error:
            if error.errno != errno.ENXIO:  # there is no further data
                return False
        if past is not None:
            return os.preadv(past, [view], offset) == len(view)
        opened = os.open(path, READ_ONLY | os.O_DIRECT)
        try:
            is_same = os.path.samestat(os.fstat(opened), os.fstat(descriptor))
            return is_same and os.preadv(opened, [view], offset) == len(view)
        finally:
            os.close(opened)
    except OSError:  # the buffer, the place or the file system does not allow it
        return False


if sys.platform == "win32":
    from ..winapi import files

    def read_into(descriptor: int, view: memoryview, offset: int) -> int:
        """Fill the front of `view` from byte `offset`; return how many bytes came (0 at the end)."""
        return files.read_at(files.handle_of(descriptor), view, offset)

    def write(descriptor: int, data: memoryview, offset: int) -> int:
        """Write the front of `data` at byte `offset`; return how many bytes were taken."""
        return files.write_at(files.handle_of(descriptor), data, offset)

    def make_sparse(descriptor: int) -> bool:
        """Let a file take no room where nothing was written to it; False where zeros are stored."""
        return files.make_sparse(descriptor)

    def stored(descriptor: int) -> int:
        """Return how many bytes of a file are stored; the others were never written, and are zero."""
        return files.stored(descriptor)

    def set_size(descriptor: int, size: int) -> None:
        """Let a file have `size` bytes; what is new reads as zeros and takes no room where the file system can."""
        if size > os.fstat(descriptor).st_size:
            files.make_sparse(descriptor)
        files.set_end(descriptor, size)

else:

    def read_into(descriptor: int, view: memoryview, offset: int) -> int:
        """Fill the front of `view` from byte `offset`; return how many bytes came (0 at the end)."""
        if hasattr(os, "preadv"):
            return os.preadv(descriptor, [view], offset)
        data = os.pread(descriptor, len(view), offset)  # macOS before 11 has this alone
        view[: len(data)] = data
        return len(data)

    def write(descriptor: int, data: memoryview, offset: int) -> int:
        """Write the front of `data` at byte `offset`; return how many bytes were taken."""
        return os.pwrite(descriptor, data, offset)

    def make_sparse(descriptor: int) -> bool:
        """Let an empty file take no room where nothing was written to it; False where zeros are stored."""
        # Where it cannot, a file that is made longer takes the room at once.
        os.ftruncate(descriptor, _TRIED)
        held = os.fstat(descriptor).st_blocks * 512
        os.ftruncate(descriptor, 0)
        return held < _TRIED

    def stored(descriptor: int) -> int:
        """Return how many bytes of a file are stored; the others were never written, and are zero."""
        size, at, found = os.fstat(descriptor).st_size, 0, 0
        for _ in range(_MOST_STRETCHES if hasattr(os, "SEEK_DATA") else 0):
            try:
                start = os.lseek(descriptor, at, os.SEEK_DATA)
            except OSError as error:
                return found if error.errno == errno.ENXIO else size  # there is no further data; or no such call
            at = os.lseek(descriptor, start, os.SEEK_HOLE)
            found += at - start
        return found + size - at

    def set_size(descriptor: int, size: int) -> None:
        """Let a file have `size` bytes; what is new reads as zeros and takes no room where the file system can."""
        os.ftruncate(descriptor, size)
