"""Ranges: of a file of a source, and of a content.

FileRange   a range of a file
Tail        a content from some byte on
Piece       some bytes of a content
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Protocol

from ..common.errors import SourceError
from .contents import IMAGE_ORDER, MADE, Content, Joined, Reader, SizedReadable, Sourced, Whence


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
