"""A stored member of an archive, compared with the archive's own sum whenever it is read from front to back."""

from __future__ import annotations

import hashlib
import itertools
import threading
import zlib
from pathlib import Path
from typing import Protocol

from msgspec import Struct

from ..common.errors import SourceError
from ..content.contents import IMAGE_ORDER, Content, Seekable, Sourced
from ..content.ranges import FileRange

CRC32 = "crc32"
METHODS = (CRC32, "md5", "sha1", "sha256", "sha512")
_ADVICE = "It is damaged or incomplete: download or copy it again."


class Running(Protocol):
    """A sum that grows, as hashlib's."""

    def update(self, data: bytes | memoryview, /) -> None: ...
    def copy(self) -> Running: ...
    def digest(self) -> bytes: ...


class _Crc32:
    def __init__(self, value: int = 0) -> None:
        self._value = value

    def update(self, data: bytes | memoryview, /) -> None:
        self._value = zlib.crc32(data, self._value)

    def copy(self) -> _Crc32:
        return _Crc32(self._value)

    def digest(self) -> bytes:
        return self._value.to_bytes(4, "big")


class Sum(Struct, frozen=True):
    """What an archive says of a member's bytes."""

    method: str
    """One of METHODS."""
    expected: bytes

    def begin(self) -> Running:
        """Return the sum of no bytes."""
        return _Crc32() if self.method == CRC32 else hashlib.new(self.method, usedforsecurity=False)

    def compare(self, found: Running, name: str) -> None:
        """Raise SourceError where another sum came out."""
        if found.digest() != self.expected:
            raise SourceError(
                f"{name} is damaged: the archive's sum ({self.method}) of it is {self.expected.hex()}, "
                f"{found.digest().hex()} comes out.",
                advice=_ADVICE,
            )


class SummedFile:
    """Has what a file of a source has: see `content.RangedFile`. Reading all of it in order proves it."""

    def __init__(self, stored: Seekable, name: str, expected: Sum) -> None:
        self.path, self.underlying, self.size = Path(name), stored, stored.size
        self.order = stored.where().file if isinstance(stored, Sourced) else IMAGE_ORDER
        self.sum = expected
        self._name = name
        self._lock, self._next = threading.Lock(), itertools.count(1)
        self._reading: dict[int, tuple[int, Running]] = {}

    def acquire(self) -> int:
        """Return a number for one more user."""
        with self._lock:
            return next(self._next)

    def release(self, descriptor: int) -> None:
        """One user less."""
        with self._lock:
            self._reading.pop(descriptor, None)

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        """Fill `view` from byte `offset`. Raises SourceError behind the last bytes of what was read in order."""
        view[:] = self.underlying.read_at(offset, len(view))
        if offset == 0:
            done, running = 0, self.sum.begin()
        else:
            with self._lock:
                done, running = self._reading.pop(descriptor, (-1, self.sum.begin()))
            if done != offset:
                return
        running.update(view)
        done += len(view)
        if done == self.size:
            self.sum.compare(running, self._name)
        else:
            with self._lock:
                self._reading[descriptor] = done, running


def own_sum(content: Content) -> Sum | None:
    """Return the sum that a content is compared with while all of it is read in order; None without one."""
    if not isinstance(content, FileRange) or content.offset or content.size != content.file.size:
        return None
    found = getattr(content.file, "sum", None)
    return found if isinstance(found, Sum) else None
