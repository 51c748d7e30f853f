"""Resources of an install image as contents of a drive: each is unpacked once, and its SHA-1 verified.

Those of up to 16 MiB are made whole: begun while what comes before them is still being written, on all processors, and
kept until the next one is asked for, since copies of a resource lie behind one another. Larger ones are streamed.
"""

from __future__ import annotations

import hashlib
import os
import threading
import weakref
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cache, partial

from msgspec import Struct

from ..common.errors import SourceError
from ..content.contents import NO_BYTES, Reader, Seekable, Whence, reading
from ..content.ranges import FileRange, RangedFile, stored_files
from .packed import PackedResource
from .read import DAMAGED
from .whole import WholeImage

LARGEST_KEPT = 16 << 20
"""Bytes of a resource that is made whole."""


_BATCH, _BATCH_BYTES = 64, 1 << 20
"""Resources, or bytes, that are made in one go: handing each to another thread takes longer than making it."""
_WINDOW, _DENSE = 1 << 20, 16 << 10
"""Bytes that are read at once where resources lie close to each other, and how close that is."""


@cache
def _makers() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(min(os.cpu_count() or 1, 4), thread_name_prefix="resource")


class _Begun(Struct):
    """A resource that is being made; `data` is asked for where it is done."""

    content: ResourceContent
    data: Callable[[], bytes | memoryview]


class Resources:
    """The resources of an image, for contents that are streamed one after the other."""

    def __init__(self, image: WholeImage) -> None:
        self.image = image
        self._lock = threading.Lock()
        self._begun: dict[bytes, Future[dict[bytes, bytes | memoryview]]] = {}
        self._batch: dict[bytes, _Begun] = {}
        self._batch_bytes = 0
        self._last: tuple[bytes, bytes | memoryview] = (b"", b"")
        self._held = False
        self._window: tuple[RangedFile | None, int, memoryview] = (None, 0, memoryview(b""))
        self._read_to = -1

    def content(self, sha1: bytes, name: str) -> Seekable:
        """Return the bytes that have a SHA-1; `name` is the file's, for errors. Raises SourceError for none."""
        if not any(sha1):
            return NO_BYTES
        return ResourceContent(self, sha1, self.image.size_by(sha1, name), name)

    def begin(self, content: ResourceContent) -> None:
        """Begin to make what is read soon. What is stored is read at once, so that an image is read front to back."""
        with self._lock:
            if not self._held:
                self._hold()
            sha1 = content.sha1
            if sha1 in self._begun or sha1 in self._batch or sha1 == self._last[0]:
                return
            found = self.image.content_by(sha1, content.name)
            assert isinstance(found, FileRange)
            if not isinstance(found.file, PackedResource):
                view = self._read(found)
                self._batch[sha1] = _Begun(content, lambda: view)
            elif found.offset == 0 and found.size == found.file.size:
                self._batch[sha1] = _Begun(content, partial(found.file.whole, *found.file.stored()))
            else:
                found.file.begin(found.offset, found.size)
                return
            self._batch_bytes += content.size
            if self._batch_bytes >= _BATCH_BYTES or len(self._batch) >= _BATCH:
                self._send()

    def whole(self, content: ResourceContent) -> bytes | memoryview:
        """Return all bytes of a resource that is not large. Raises SourceError where their SHA-1 is another one."""
        with self._lock:
            if content.sha1 == self._last[0]:
                return self._last[1]
            if content.sha1 in self._batch:
                self._send()
            begun = self._begun.pop(content.sha1, None)
        if begun is not None:
            data = begun.result()[content.sha1]
        else:
            found = self.image.content_by(content.sha1, content.name)
            data = _proved(found.read_at(0, found.size), content)
        with self._lock:
            self._last = (content.sha1, data)
        return data

    def _send(self) -> None:
        made = _makers().submit(_made, list(self._batch.values()))
        self._begun.update(dict.fromkeys(self._batch, made))
        self._batch, self._batch_bytes = {}, 0

    def _read(self, found: FileRange) -> memoryview:
        """Return the bytes of a resource that is stored as it is, read with those behind it where others lie close."""
        file, start, window = self._window
        inside = found.offset - start
        if file is not found.file or inside < 0 or inside + found.size > len(window):
            is_dense = file is found.file and 0 <= found.offset - self._read_to <= _DENSE
            size = min(max(found.size, _WINDOW if is_dense else 0), found.file.size - found.offset)
            try:
                window = _bytes_of(found.file, found.offset, size)
            except SourceError:  # perhaps not a byte of this one is bad
                window = _bytes_of(found.file, found.offset, found.size)
            self._window, inside = (found.file, found.offset, window), 0
        self._read_to = found.offset + found.size
        return window[inside : inside + found.size]

    def _hold(self) -> None:
        """Keep the image's files open from here on: opening them each time takes longer than reading."""
        self._held = True
        for part in self.image.parts:
            for file in stored_files(part.content):
                weakref.finalize(self, file.release, file.acquire())


def _bytes_of(file: RangedFile, offset: int, size: int) -> memoryview:
    buffer, descriptor = memoryview(bytearray(size)), file.acquire()
    try:
        file.readinto_at(descriptor, offset, buffer)
    finally:
        file.release(descriptor)
    return buffer


def _made(batch: list[_Begun]) -> dict[bytes, bytes | memoryview]:
    return {begun.content.sha1: _proved(begun.data(), begun.content) for begun in batch}


def _proved(data: bytes | memoryview, content: ResourceContent) -> bytes | memoryview:
    if hashlib.sha1(data).digest() != content.sha1:
        raise content.mismatch()
    return data


class ResourceContent:
    """The bytes of a file: those of a resource."""

    __slots__ = ("_resources", "name", "sha1", "size")

    def __init__(self, resources: Resources, sha1: bytes, size: int, name: str) -> None:
        self._resources, self.sha1, self.size, self.name = resources, sha1, size, name

    def where(self) -> Whence:
        return self._resources.image.where_is(self.sha1)

    def begin(self) -> None:
        """See `content.Foreseen`."""
        if self.size <= LARGEST_KEPT:
            self._resources.begin(self)

    def open(self) -> Reader:
        if self.size <= LARGEST_KEPT:
            return reading(self._resources.whole(self))
        return _Proving(self._resources.image.content_by(self.sha1, self.name).open(), self)

    def read_at(self, offset: int, size: int) -> bytes:
        """Return bytes from `offset`; their SHA-1 is not verified."""
        return self._resources.image.content_by(self.sha1, self.name).read_at(offset, size)

    def mismatch(self) -> SourceError:
        return SourceError(f"{self.name}: its bytes in the image do not match their SHA-1.", advice=DAMAGED)


class _Proving:
    """Sums what passes, and fails at the last byte where the sum is another one."""

    def __init__(self, reader: Reader, content: ResourceContent) -> None:
        self._reader, self._content = reader, content
        self._sum, self._left = hashlib.sha1(), content.size

    def readinto(self, view: memoryview) -> int:
        got = self._reader.readinto(view)
        self._sum.update(view[:got])
        self._left -= got
        if not self._left and self._sum.digest() != self._content.sha1:
            raise self._content.mismatch()
        return got

    def close(self) -> None:
        self._reader.close()
