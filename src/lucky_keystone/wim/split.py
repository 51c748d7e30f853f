"""Divides an install image into parts at resource boundaries, as content: nothing is copied here.

A part is a new header, ranges of the original, a lookup table of its own, the XML, and an integrity table when the
original has one. Its size is exact before a byte is streamed; its integrity sums are taken while its body streams by.
"""

from __future__ import annotations

import hashlib
import os
import queue
import sys
import threading
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from msgspec import Struct

from ..common.errors import SourceError, UsageError
from ..common.later import np
from ..content.contents import Content, Joined, Literal, Reader, Seekable, Whence, seekable
from ..content.ranges import FileRange
from .read import InstallImage
from .records import (
    HEADER_SPANNED,
    RESOURCE_METADATA,
    RESOURCE_SIZE,
    SIZE_MASK,
    Header,
    IntegrityHeader,
    ResourceHeader,
)

LARGEST_PART = (1 << 32) - 1
"""The largest file FAT32 holds, in bytes (fatgen103, "DIR_FileSize")."""

_CHUNK = 10 << 20


class ImagePart(Struct, frozen=True):
    """One part of a divided image."""

    number: int
    content: Content
    resource_count: int


def divide(image: InstallImage, part_size: int = LARGEST_PART, *, has_sums: bool | None = None) -> list[ImagePart]:
    """Divide `image` into as few parts of at most `part_size` bytes as can be found, always the same ones.

    They have integrity tables, which are known only once a part has been streamed, where the image has one, or as
    `has_sums` says.

    Raises SourceError when the image cannot be divided (a part already, solid, a resource too large, damaged tables).
    """
    resources = _dividable(image)
    has_sums = image.has_integrity if has_sums is None else has_sums
    room = part_size - _overhead(image, part_size, has_sums=has_sums or image.has_integrity)
    sizes = (resources["size_and_flags"] & np.uint64(SIZE_MASK)).astype(np.int64) + RESOURCE_SIZE
    if len(sizes) and int(sizes.max()) > room:
        largest = int(np.argmax(sizes))
        raise SourceError(
            f"{image.place}: resource {bytes(resources['sha1'][largest]).hex()} alone has "
            f"{int(sizes[largest]) - 50} bytes, "
            f"more than a part of {part_size} holds; resources are never cut.",
            advice="Choose larger parts, or a layout whose file system takes the image whole.",
        )
    metadata = (resources["size_and_flags"] >> np.uint64(56) & np.uint64(RESOURCE_METADATA)) != 0
    if int(sizes[metadata].sum()) > room:
        raise SourceError(
            f"{image.place}: its editions' folder trees do not fit into one part of {part_size} bytes.",
            advice="Choose larger parts.",
        )
    part_of = _assign(sizes, metadata, resources["offset"], room)
    count = int(part_of.max()) + 1 if len(part_of) else 1
    return [_part(image, resources[part_of == number], number + 1, count, has_sums=has_sums) for number in range(count)]


def part_names(name: str, count: int) -> list[str]:
    """Return the file names of the parts of image `name`: install.swm, install2.swm, install3.swm and so on."""
    stem = name.rsplit(".", 1)[0]
    return [f"{stem}{number if number > 1 else ''}.swm" for number in range(1, count + 1)]


def _dividable(image: InstallImage) -> np.ndarray[Any, Any]:
    if image.is_part:
        raise SourceError(
            f"{image.place} is already part {image.header.part_number} of {image.header.part_count}.",
            advice="Use the whole image instead.",
        )
    if image.solid:
        raise SourceError(
            f"{image.place} is a solid image: its resources are compressed as one stream and cannot be divided.",
            advice="Choose a layout whose file system takes the image whole, or a source with a plain image.",
        )
    return image.resources


def _overhead(image: InstallImage, part_size: int, *, has_sums: bool) -> int:
    """Bytes of a part that are not resources or their entries, at most."""
    if part_size < 1 << 20:
        raise UsageError(f"Parts of {part_size} bytes are too small.", advice="Choose 1 MiB or more.")
    integrity = IntegrityHeader.SIZE + 20 * -(-part_size // _CHUNK) if has_sums else 0
    overhead = Header.SIZE + len(image.xml) + integrity
    if overhead >= part_size:
        raise SourceError(
            f"{image.place}: its XML alone fills a part of {part_size} bytes.", advice="Choose larger parts."
        )
    return overhead


def _assign(
    sizes: np.ndarray[Any, Any], metadata: np.ndarray[Any, Any], offsets: np.ndarray[Any, Any], room: int
) -> np.ndarray[Any, Any]:
    """Return the part (from 0) of each resource. Metadata goes to part 0.

    In the original's order when that needs no more parts than best fit, largest first: reading stays sequential.
    """
    rest = np.flatnonzero(~metadata)
    in_order = rest[np.argsort(offsets[rest], kind="stable")]
    sequential = _next_fit(sizes, in_order, int(sizes[metadata].sum()), room)
    fewest = -(-int(sizes.sum()) // room)
    chosen = sequential
    if len(sequential) and int(sequential.max()) + 1 > fewest:
        by_size = in_order[np.argsort(-sizes[in_order], kind="stable")]
        packed = _best_fit(sizes, by_size, int(sizes[metadata].sum()), room)
        if int(packed.max()) < int(sequential.max()):
            chosen = packed
    return chosen


def _next_fit(sizes: np.ndarray[Any, Any], order: np.ndarray[Any, Any], used: int, room: int) -> np.ndarray[Any, Any]:
    part_of = np.zeros(len(sizes), np.int64)
    part = 0
    for index in order.tolist():
        size = int(sizes[index])
        if used + size > room:
            part, used = part + 1, 0
        part_of[index] = part
        used += size
    return part_of


def _best_fit(sizes: np.ndarray[Any, Any], order: np.ndarray[Any, Any], used: int, room: int) -> np.ndarray[Any, Any]:
    part_of = np.zeros(len(sizes), np.int64)
    left = [room - used]
    for index in order.tolist():
        size = int(sizes[index])
        fitting = [(space, part) for part, space in enumerate(left) if space >= size]
        part = min(fitting)[1] if fitting else len(left)
        if not fitting:
            left.append(room)
        left[part] -= size
        part_of[index] = part
    return part_of


def _part(image: InstallImage, resources: np.ndarray[Any, Any], number: int, count: int, has_sums: bool) -> ImagePart:
    order = np.argsort(resources["offset"], kind="stable")
    resources = resources[order]
    sizes = (resources["size_and_flags"] & np.uint64(SIZE_MASK)).astype(np.int64)
    body = _ranges(image.content, resources["offset"].astype(np.int64), sizes)
    table = resources.copy()
    ends = Header.SIZE + np.cumsum(sizes)
    table["offset"] = (ends - sizes).astype(np.uint64)
    table["part"] = number
    table_offset = int(ends[-1]) if len(ends) else Header.SIZE
    xml_offset = table_offset + table.nbytes
    header = image.header.with_changes(
        flags=image.header.flags | HEADER_SPANNED,
        part_number=number,
        part_count=count,
        lookup_table=place_of(table_offset, table.nbytes),
        xml=place_of(xml_offset, len(image.xml)),
        boot_metadata=bytes(24),
        boot_index=0,
        integrity=bytes(24),
    )
    tables = Literal(table.tobytes())
    if not has_sums:
        return ImagePart(number, Joined([Literal(header.pack()), *body, tables, Literal(image.xml)]), len(table))
    return ImagePart(number, summed(header, Joined([*body, tables]), image.xml), len(table))


def summed(header: Header, body: Content, xml: bytes) -> SummedPart:
    """Return an image with an integrity table at its end, which is made while the bytes stream by."""
    return SummedPart(*summed_parts(header, body, xml))


def summed_parts(header: Header, body: Content, xml: bytes) -> tuple[Content, Content, Content, int]:
    """Return header, body and XML of an image with an integrity table, and how many sums that has."""
    sums = -(-body.size // _CHUNK)
    at = Header.SIZE + body.size + len(xml)
    header = header.with_changes(integrity=place_of(at, IntegrityHeader.SIZE + 20 * sums) if sums else bytes(24))
    return Literal(header.pack()), body, Literal(xml), sums


def place_of(offset: int, size: int) -> bytes:
    """Return how the header names a table that is stored as it is."""
    return ResourceHeader(offset=offset, stored_size=size, original_size=size).pack()


def _ranges(content: Seekable, offsets: np.ndarray[Any, Any], sizes: np.ndarray[Any, Any]) -> list[Content]:
    """Return the resources' bytes as ranges of `content`, neighbours joined."""
    if not len(offsets):
        return []
    breaks = np.flatnonzero(offsets[1:] != offsets[:-1] + sizes[:-1]) + 1
    starts = np.concatenate(([0], breaks))
    ends = np.concatenate((breaks, [len(offsets)])) - 1
    return [
        subrange(content, int(offsets[first]), int(offsets[last] + sizes[last] - offsets[first]))
        for first, last in zip(starts.tolist(), ends.tolist(), strict=True)
    ]


def subrange(content: Seekable, offset: int, size: int) -> Content:
    """Return `size` bytes of `content` from `offset` as a content of its own."""
    if isinstance(content, FileRange):
        return FileRange(content.file, content.offset + offset, size)
    if isinstance(content, Joined):
        pieces = [subrange(seekable(part), inside, take) for part, inside, take in content.cut(offset, size)]
        return pieces[0] if len(pieces) == 1 else Joined(pieces)
    return Literal(content.read_at(offset, size))


class SummedPart:
    """A part that ends in an integrity table: SHA-1 sums of the bytes between its header and its XML."""

    def __init__(self, header: Content, body: Content, xml: Content, sum_count: int) -> None:
        self._header, self._body, self._xml, self._sum_count = header, body, xml, sum_count
        self.size = header.size + body.size + xml.size + IntegrityHeader.SIZE + 20 * sum_count
        self.parts = (header, body, xml)
        """What it consists of, up to its table of sums."""

    def where(self) -> Whence:
        return self._body.where()

    def open(self) -> Reader:
        return _SummingReader(self._header, self._body, self._xml, self._sum_count)


class _SummingReader:
    def __init__(self, header: Content, body: Content, xml: Content, sum_count: int) -> None:
        self._sums = _SumsBeside(body.size)
        self._count = sum_count
        self._stages: Iterator[tuple[Reader, bool]] = iter(
            [(header.open(), False), (body.open(), True), (xml.open(), False)]
        )
        self._current: tuple[Reader, bool] | None = next(self._stages)
        self._table_made = False

    def readinto(self, view: memoryview) -> int:
        done = 0
        while done < len(view) and self._current is not None:
            reader, summed = self._current
            got = reader.readinto(view[done:])
            if summed and got:
                self._sums.add(view[done : done + got])
            if got == 0:
                reader.close()
                self._current = next(self._stages, None) or self._table()
            done += got
        return done

    def _table(self) -> tuple[Reader, bool] | None:
        if self._table_made:
            return None
        self._table_made = True
        head = IntegrityHeader(size=IntegrityHeader.SIZE + 20 * self._count, count=self._count).pack()
        return Literal(head + b"".join(self._sums.finish())).open(), False

    def close(self) -> None:
        self._sums.finish()
        if self._current is not None:
            self._current[0].close()
        for reader, _ in self._stages:
            reader.close()
        self._current = None


def _stand_back() -> None:
    """Give this thread less of the processor than the ones that keep the drive busy.

    Linux has that for single threads.
    """
    if sys.platform == "linux":
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 10)


class _SumsBeside:
    """Takes SHA-1 sums of 10 MiB chunks in threads of their own: they cost more than all else in streaming."""

    _THREADS = 2
    _BUFFERS = 4

    def __init__(self, size: int) -> None:
        self._left = size
        self._filled = 0
        self._buffer: bytearray | None = None
        self._empty: queue.Queue[bytearray] = queue.Queue()
        for _ in range(self._BUFFERS):
            self._empty.put(bytearray(min(_CHUNK, size)))
        self._threads = ThreadPoolExecutor(self._THREADS, "sums", initializer=_stand_back)
        self._sums: list[Future[bytes]] = []

    def add(self, data: memoryview) -> None:
        """Take the next bytes; they are copied, the caller may reuse its buffer at once."""
        while data:
            if self._buffer is None:
                self._buffer = self._empty.get()
            take = min(_CHUNK - self._filled, len(data))
            memoryview(self._buffer)[self._filled : self._filled + take] = data[:take]
            data = data[take:]
            self._filled += take
            self._left -= take
            if self._filled == _CHUNK or not self._left:
                self._sums.append(self._threads.submit(self._sum, self._buffer, self._filled))
                self._buffer, self._filled = None, 0

    def finish(self) -> list[bytes]:
        """Wait for the last sum and return all."""
        self._threads.shutdown()
        return [future.result() for future in self._sums]

    def _sum(self, buffer: bytearray, size: int) -> bytes:
        digest = hashlib.sha1(memoryview(buffer)[:size]).digest()
        self._empty.put(buffer)
        return digest
