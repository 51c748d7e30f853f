"""What is asked of macOS itself: programs that answer with property lists, nodes, and control calls."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path
from typing import Any, Protocol

from ...common import positional

# <sys/disk.h>
DKIOCSYNCHRONIZECACHE = 0x2000_6416
DKIOCGETBLOCKSIZE, DKIOCGETBLOCKCOUNT = positional.DKIOCGETBLOCKSIZE, positional.DKIOCGETBLOCKCOUNT
_O_EXLOCK = 0x20  # <sys/fcntl.h>


class MacSystem(Protocol):
    """The seam: the tests give recorded answers here."""

    def run(self, *command: str) -> bytes:
        """Run a program of the system; return its output. Raises OSError when it fails, with what it said."""

    def open(self, path: Path, *, write: bool) -> int:
        """Open a node, for writing locked against others."""

    def control(self, descriptor: int, request: int, size: int) -> bytes:
        """Make a control call that answers with `size` bytes."""

    def node_number(self, place: int | Path) -> int:
        """Return the device number of an open descriptor or a node."""

    def read_into(self, descriptor: int, view: memoryview, offset: int) -> int: ...

    def write(self, descriptor: int, data: memoryview, offset: int) -> int: ...

    def close(self, descriptor: int) -> None: ...


class RealMac:
    """The Mac this runs on."""

    def run(self, *command: str) -> bytes:
        done = subprocess.run(command, capture_output=True, check=False)  # noqa: S603 - fixed programs, no shell
        if done.returncode:
            said = (done.stderr or done.stdout).decode("utf-8", "replace").strip().splitlines()
            raise OSError(0, " ".join(said) if said else f"{command[0]} ended with {done.returncode}")
        return done.stdout

    def open(self, path: Path, *, write: bool) -> int:
        return os.open(path, (os.O_RDWR | _O_EXLOCK | os.O_NONBLOCK) if write else os.O_RDONLY)

    def control(self, descriptor: int, request: int, size: int) -> bytes:
        import fcntl

        answer: Any = fcntl.ioctl(descriptor, request, bytes(size))
        return bytes(answer) if size else b""

    def node_number(self, place: int | Path) -> int:
        return os.fstat(place).st_rdev if isinstance(place, int) else place.stat().st_rdev

    def read_into(self, descriptor: int, view: memoryview, offset: int) -> int:
        return positional.read_into(descriptor, view, offset)

    def write(self, descriptor: int, data: memoryview, offset: int) -> int:
        return positional.write(descriptor, data, offset)

    def close(self, descriptor: int) -> None:
        os.close(descriptor)
