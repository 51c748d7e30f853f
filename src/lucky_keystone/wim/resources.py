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
from functools import cache

from ..content import NO_BYTES, FileRange, Literal, Reader, Seekable, Whence, stored_files
from ..errors import SourceError
from .packed import PackedResource
from .read import DAMAGED
from .whole import WholeImage

LARGEST_KEPT = 16 << 20
"""Bytes of a resource that is made whole."""


@cache
def _makers() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(min(os.cpu_count() or 1, 4), thread_name_prefix="resource")


class Resources:
    """The resources of an image, for contents that are streamed one after the other."""

    def __init__(self, image: WholeImage) -> None:
        self.image = image
        self._lock = threading.Lock()
        self._begun: dict[bytes, Future[bytes]] = {}
        self._last: tuple[bytes, bytes] = (b"", b"")
        self._held = False

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
            if content.sha1 in self._begun or content.sha1 == self._last[0]:
                return
            found = self.image.content_by(content.sha1, content.name)
            assert isinstance(found, FileRange)
            if not isinstance(found.file, PackedResource):
                data = found.read_at(0, found.size)
                self._begun[content.sha1] = _makers().submit(_proved, lambda: data, content)
            elif found.offset == 0 and found.size == found.file.size:
                whole, stored = found.file.whole, found.file.stored()
                self._begun[content.sha1] = _makers().submit(_proved, lambda: whole(*stored), content)
            else:
                found.file.begin(found.offset, found.size)

    def _hold(self) -> None:
        """Keep the image's files open from here on: to open them for every resource takes longer than to read it."""
        self._held = True
        for part in self.image.parts:
            for file in stored_files(part.content):
                weakref.finalize(self, file.release, file.acquire())

    def whole(self, content: ResourceContent) -> bytes:
        """Return all bytes of a resource that is not large. Raises SourceError where their SHA-1 is another one."""
        with self._lock:
            if content.sha1 == self._last[0]:
                return self._last[1]
            begun = self._begun.pop(content.sha1, None)
        if begun is not None:
            data = begun.result()
        else:
            found = self.image.content_by(content.sha1, content.name)
            data = _proved(lambda: found.read_at(0, found.size), content)
        with self._lock:
            self._last = (content.sha1, data)
        return data


def _proved(made: Callable[[], bytes], content: ResourceContent) -> bytes:
    data = made()
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
            return Literal(self._resources.whole(self)).open()
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
