"""What bytes are, before anyone reads them.

A `Content` knows its exact size. `open()` gives a `Reader` that fills buffers front to back; contents whose bytes can
be read at any offset without producing what comes before are `Seekable` as well.

    Literal     bytes in memory
    Zeros       nothing but zeros
    Joined      contents one after the other
    Generated   bytes made on demand by a function, front to back
    Awaited     bytes that are known when a drive is planned: they name the drive itself
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple, Protocol, runtime_checkable

from ..common.errors import SourceError

BLOCK = 4 << 20
"""Bytes handled at once wherever contents are streamed."""


class Readable(Protocol):
    """Bytes that can be read at an offset."""

    def read_at(self, offset: int, size: int) -> bytes:
        """Return exactly `size` bytes from `offset`, or raise a KeystoneError."""


class SizedReadable(Readable, Protocol):
    """The same, with their length known."""

    @property
    def size(self) -> int:
        """Length in bytes."""


class Whence(NamedTuple):
    """Where the first byte of a content comes from. In this order contents are read front to back."""

    file: str
    """As `RangedFile.order`."""
    stored: int
    """Byte of the file as it is stored."""
    inside: int = 0
    """Byte of what is decoded from there on."""


MADE = Whence("", 0)
"""Of bytes that come from nowhere."""
IMAGE_ORDER = " "
"""The order of a source that is one file: before all files of folders."""


class Reader(Protocol):
    """Gives a content's bytes front to back."""

    def readinto(self, view: memoryview) -> int:
        """Fill `view` as far as the content reaches; return the bytes written (fewer only at the end)."""

    def close(self) -> None:
        """Release what the reader holds open."""


@runtime_checkable
class Sourced(Protocol):
    """Knows where it comes from."""

    def where(self) -> Whence:
        """Return where the first byte comes from."""


class Content(Sourced, Protocol):
    """A description of bytes."""

    @property
    def size(self) -> int:
        """Exact length in bytes, known before reading."""

    def open(self) -> Reader:
        """Start reading at the front."""


class Seekable(Content, Protocol):
    """A content that can be read at any offset."""

    def read_at(self, offset: int, size: int) -> bytes:
        """Return exactly `size` bytes from `offset`; SourceError when they are not there."""


class Foreseen(Protocol):
    """A content that is made faster when it is known beforehand that it will be read."""

    def begin(self) -> None:
        """Begin to make its bytes; it is opened after what comes before it was read."""


class Literal:
    """Bytes in memory."""

    def __init__(self, data: bytes) -> None:
        self.data = data

    @property
    def size(self) -> int:
        return len(self.data)

    def where(self) -> Whence:
        return MADE

    def open(self) -> Reader:
        return _IteratorReader(iter((self.data,)))

    def read_at(self, offset: int, size: int) -> bytes:
        if offset < 0 or size < 0 or offset + size > len(self.data):
            raise SourceError(f"{size} bytes at {offset} were requested, out of {len(self.data)}.")
        return self.data[offset : offset + size]


NO_BYTES = Literal(b"")


class Zeros:
    """`size` zero bytes."""

    def __init__(self, size: int) -> None:
        self.size = size

    def where(self) -> Whence:
        return MADE

    def open(self) -> Reader:
        return _ZeroReader(self.size)

    def read_at(self, offset: int, size: int) -> bytes:
        if offset < 0 or size < 0 or offset + size > self.size:
            raise SourceError(f"{size} bytes at {offset} were requested, out of {self.size}.")
        return bytes(size)


class _ZeroReader:
    _NOTHING = bytes(1 << 16)

    def __init__(self, size: int) -> None:
        self._left = size

    def readinto(self, view: memoryview) -> int:
        size = min(len(view), self._left)
        for start in range(0, size, len(self._NOTHING)):
            piece = view[start : min(start + len(self._NOTHING), size)]
            piece[:] = self._NOTHING[: len(piece)]
        self._left -= size
        return size

    def close(self) -> None:
        self._left = 0


class Generated:
    """`size` bytes that `produce()` yields in pieces of any length, the same at every call."""

    def __init__(self, size: int, produce: Callable[[], Iterator[bytes]]) -> None:
        self.size = size
        self._produce = produce

    def where(self) -> Whence:
        return MADE

    def open(self) -> Reader:
        return _IteratorReader(self._produce())


def reading(data: bytes | memoryview) -> Reader:
    """Return a reader of bytes in memory."""
    return _IteratorReader(iter((data,)))


class _IteratorReader:
    def __init__(self, pieces: Iterator[bytes | memoryview]) -> None:
        self._pieces, self._rest = pieces, memoryview(b"")

    def readinto(self, view: memoryview) -> int:
        done = 0
        while done < len(view):
            if not self._rest:
                piece = next(self._pieces, None)
                if piece is None:
                    break
                self._rest = memoryview(piece)
                continue
            take = min(len(view) - done, len(self._rest))
            view[done : done + take] = self._rest[:take]
            self._rest = self._rest[take:]
            done += take
        return done

    def close(self) -> None:
        self._rest, self._pieces = memoryview(b""), iter(())


class Awaited:
    """`size` bytes that are given later, before anything is read: what names the drive that it lies on."""

    def __init__(self, size: int) -> None:
        self.size = size
        self._data: bytes | None = None

    def settle(self, data: bytes) -> None:
        """Give the bytes. Raises ValueError for another number of them."""
        if len(data) != self.size:
            raise ValueError(f"{len(data)} bytes for a content of {self.size}")
        self._data = data

    def where(self) -> Whence:
        return MADE

    def open(self) -> Reader:
        return _IteratorReader(iter((self._given(),)))

    def read_at(self, offset: int, size: int) -> bytes:
        if offset < 0 or size < 0 or offset + size > self.size:
            raise SourceError(f"{size} bytes at {offset} were requested, out of {self.size}.")
        return self._given()[offset : offset + size]

    def _given(self) -> bytes:
        assert self._data is not None, "read before the drive was planned"
        return self._data


class Joined:
    """Contents one after the other."""

    def __init__(self, parts: Sequence[Content]) -> None:
        self.parts = tuple(part for part in parts if part.size)
        self._starts: list[int] = []
        self.size = 0
        for part in self.parts:
            self._starts.append(self.size)
            self.size += part.size

    def where(self) -> Whence:
        return next((place for place in (part.where() for part in self.parts) if place.file), MADE)

    def open(self) -> Reader:
        return _JoinedReader(self.parts)

    def read_at(self, offset: int, size: int) -> bytes:
        return b"".join(seekable(part).read_at(inside, take) for part, inside, take in self.cut(offset, size))

    def cut(self, offset: int, size: int) -> Iterator[tuple[Content, int, int]]:
        """Yield what `size` bytes from `offset` consist of: a content, the first byte of it, and how many."""
        if offset < 0 or size < 0 or offset + size > self.size:
            raise SourceError(f"{size} bytes at {offset} were requested, out of {self.size}.")
        number = bisect_right(self._starts, offset) - 1
        while size:
            part, inside = self.parts[number], offset - self._starts[number]
            take = min(size, part.size - inside)
            yield part, inside, take
            offset, size, number = offset + take, size - take, number + 1


class _JoinedReader:
    def __init__(self, parts: Sequence[Content]) -> None:
        self._waiting = iter(parts)
        self._current: Reader | None = None

    def readinto(self, view: memoryview) -> int:
        done = 0
        while done < len(view):
            if self._current is None:
                part = next(self._waiting, None)
                if part is None:
                    break
                self._current = part.open()
            got = self._current.readinto(view[done:])
            if got == 0:
                self.close()
            done += got
        return done

    def close(self) -> None:
        if self._current is not None:
            self._current.close()
            self._current = None


def seekable(content: Content) -> Seekable:
    """Return `content` as Seekable, or raise SourceError when its bytes can only be streamed."""
    if hasattr(content, "read_at"):
        return content  # type: ignore[return-value]
    raise SourceError("This part of the source can only be read front to back.")


def stream(content: Content, block: int = BLOCK) -> Iterator[memoryview]:
    """Yield the bytes of `content` in pieces of up to `block` bytes.

    Each piece is valid until the next is asked for.
    """
    buffer = memoryview(bytearray(min(block, max(content.size, 1))))
    reader = content.open()
    try:
        left = content.size
        while left:
            got = reader.readinto(buffer[: min(len(buffer), left)])
            if got == 0:
                raise SourceError(f"A content ended {left} bytes early.")
            yield buffer[:got]
            left -= got
    finally:
        reader.close()
