"""What bytes are, before anyone reads them.

A `Content` knows its exact size. `open()` gives a `Reader` that fills buffers front to back; contents whose bytes can
be had at any offset without producing what comes before are `Seekable` as well.

    Literal     bytes in memory
    Zeros       nothing but zeros
    FileRange   a range of a file
    Joined      contents one after the other
    Generated   bytes made on demand by a function, front to back
    Awaited     bytes that are known when a drive is planned: they name the drive itself
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
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


_BLANK_PLACES, _BLANK_PIECE, _BLANK_END = 1024, 64 << 10, 1 << 20


def is_blank(data: SizedReadable) -> bool:
    """True when there are only zeros in the MiB at either end and at up to 1,024 places between."""
    step = max(data.size // _BLANK_PLACES, _BLANK_PIECE)
    places = [(at, _BLANK_PIECE) for at in range(0, data.size, step)]
    places += [(0, _BLANK_END), (max(data.size - _BLANK_END, 0), _BLANK_END)]
    return not any(any(data.read_at(at, min(size, data.size - at))) for at, size in places)


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


class Named(Protocol):
    """Says where a file is: a path, or a link. As text it shows nothing that is secret."""

    @property
    def name(self) -> str: ...


class RangedFile(Protocol):
    """A file that contents are ranges of: on this computer, on a server, or what comes out of a compressed one."""

    @property
    def path(self) -> Named: ...

    @property
    def order(self) -> str:
        """When it is read, among the files of a source: by this text, which is the same wherever the source lies."""

    @property
    def size(self) -> int:
        """Length in bytes."""

    @property
    def underlying(self) -> SizedReadable | None:
        """The bytes that these are made from; None of a file as it is stored."""

    def acquire(self) -> int:
        """Return a descriptor for one more user."""

    def release(self, descriptor: int) -> None:
        """One user less."""

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        """Fill `view` from `offset` (bytes) or raise SourceError."""


class FileRange:
    """`size` bytes of a file from `offset` (bytes)."""

    def __init__(self, file: RangedFile, offset: int, size: int) -> None:
        self.file, self.offset, self.size = file, offset, size

    def where(self) -> Whence:
        below = self.file.underlying
        if below is None:
            return Whence(self.file.order, self.offset)
        whence = below.where() if isinstance(below, Sourced) else MADE
        return Whence(whence.file, whence.stored, self.offset)

    def open(self) -> Reader:
        return _RangeReader(self)

    def read_at(self, offset: int, size: int) -> bytes:
        if offset < 0 or size < 0 or offset + size > self.size:
            raise SourceError(
                f"{self.file.path}: {size} bytes at {offset} were requested from a part that has {self.size}.",
                advice="The file is damaged or incomplete.",
            )
        buffer = bytearray(size)
        descriptor = self.file.acquire()
        try:
            self.file.readinto_at(descriptor, self.offset + offset, memoryview(buffer))
        finally:
            self.file.release(descriptor)
        return bytes(buffer)


def stored_files(content: Content | SizedReadable) -> Iterator[RangedFile]:
    """Yield the files that the bytes of a content come from, as they are stored."""
    waiting: list[Content | SizedReadable] = [content]
    while waiting:
        part = waiting.pop()
        if isinstance(part, Joined):
            waiting += part.parts
        elif isinstance(part, FileRange):
            if part.file.underlying is None:
                yield part.file
            else:
                waiting.append(part.file.underlying)


def ranges_in(content: Content) -> Iterator[tuple[int, FileRange]]:
    """Yield the ranges of files that a content consists of, each with its place (bytes) in the content."""
    if isinstance(content, FileRange):
        yield 0, content
    at = 0
    for part in getattr(content, "parts", ()):
        yield from ((at + inside, found) for inside, found in ranges_in(part))
        at += part.size


class ContentFile:
    """A content that further contents are ranges of: has what a file of a source has."""

    def __init__(self, content: SizedReadable, name: str) -> None:
        self.path, self.underlying, self.size = Path(name), content, content.size
        self.order = IMAGE_ORDER

    def acquire(self) -> int:
        return 0

    def release(self, descriptor: int) -> None:
        """Nothing is held."""

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        view[:] = self.underlying.read_at(offset, len(view))


class _RangeReader:
    def __init__(self, source: FileRange) -> None:
        self._source, self._done = source, 0
        self._descriptor: int | None = source.file.acquire()

    def readinto(self, view: memoryview) -> int:
        if self._descriptor is None:
            raise ValueError("reader is closed")
        size = min(len(view), self._source.size - self._done)
        self._source.file.readinto_at(self._descriptor, self._source.offset + self._done, view[:size])
        self._done += size
        return size

    def close(self) -> None:
        descriptor, self._descriptor = self._descriptor, None
        if descriptor is not None:
            self._source.file.release(descriptor)


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
        if offset < 0 or size < 0 or offset + size > self.size:
            raise SourceError(f"{size} bytes at {offset} were requested, out of {self.size}.")
        pieces: list[bytes] = []
        number = bisect_right(self._starts, offset) - 1
        while size:
            part, inside = self.parts[number], offset - self._starts[number]
            take = min(size, part.size - inside)
            pieces.append(seekable(part).read_at(inside, take))
            offset, size, number = offset + take, size - take, number + 1
        return b"".join(pieces)


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


class Tail:
    """A content without its first `skip` bytes, which are read and passed over."""

    def __init__(self, content: Content, skip: int) -> None:
        self._content, self._skip = content, skip
        self.size = max(content.size - skip, 0)

    def where(self) -> Whence:
        whence = self._content.where()
        return whence._replace(inside=whence.inside + self._skip)

    def open(self) -> Reader:
        reader = self._content.open()
        left = self._skip
        passed = memoryview(bytearray(min(left, 1 << 16)))
        while left and (got := reader.readinto(passed[: min(left, len(passed))])):
            left -= got
        return reader


def tail(content: Content, skip: int) -> Content:
    """Return `content` from byte `skip` on."""
    if isinstance(content, FileRange):
        return FileRange(content.file, content.offset + skip, max(content.size - skip, 0))
    return Tail(content, skip)


class Piece:
    """Some of a content: what comes before is read and passed over."""

    def __init__(self, content: Content, start: int, size: int) -> None:
        self._rest, self.size = tail(content, start), size
        self.cut_from = content, start
        """What it is a piece of, and from which byte on."""

    def where(self) -> Whence:
        return self._rest.where()

    def open(self) -> Reader:
        return _PieceReader(self._rest.open(), self.size)


class _PieceReader:
    def __init__(self, reader: Reader, size: int) -> None:
        self._reader, self._left = reader, size

    def readinto(self, view: memoryview) -> int:
        got = self._reader.readinto(view[: self._left])
        self._left -= got
        return got

    def close(self) -> None:
        self._reader.close()


def piece_of(content: Content, start: int, size: int) -> Content:
    """Return `size` bytes of a content from byte `start` on."""
    if isinstance(content, FileRange):
        return FileRange(content.file, content.offset + start, size)
    return Piece(content, start, size)


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
