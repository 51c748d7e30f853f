"""Reading and writing at an offset on every host: one call where the system has it, seek and go where it has not."""

from __future__ import annotations

import os
import sys
from contextlib import suppress
from pathlib import Path

READ_ONLY = os.O_RDONLY | getattr(os, "O_BINARY", 0)
READ_WRITE = os.O_RDWR | getattr(os, "O_BINARY", 0)


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


if sys.platform == "win32":

    def read_into(descriptor: int, view: memoryview, offset: int) -> int:
        """Fill the front of `view` from byte `offset`; return how many bytes came (0 at the end)."""
        os.lseek(descriptor, offset, os.SEEK_SET)
        data = os.read(descriptor, len(view))
        view[: len(data)] = data
        return len(data)

    def write(descriptor: int, data: memoryview, offset: int) -> int:
        """Write the front of `data` at byte `offset`; return how many bytes were taken."""
        os.lseek(descriptor, offset, os.SEEK_SET)
        return os.write(descriptor, data)

else:

    def read_into(descriptor: int, view: memoryview, offset: int) -> int:
        """Fill the front of `view` from byte `offset`; return how many bytes came (0 at the end)."""
        return os.preadv(descriptor, [view], offset)

    def write(descriptor: int, data: memoryview, offset: int) -> int:
        """Write the front of `data` at byte `offset`; return how many bytes were taken."""
        return os.pwrite(descriptor, data, offset)
