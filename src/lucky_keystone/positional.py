"""Reading and writing at an offset on every host: one call where the system has it, seek and go where it has not."""

from __future__ import annotations

import os
import sys

READ_ONLY = os.O_RDONLY | getattr(os, "O_BINARY", 0)
READ_WRITE = os.O_RDWR | getattr(os, "O_BINARY", 0)

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
