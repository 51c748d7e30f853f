"""Chunk lists: SHA-256 of each piece of a disk image, in a file beside it under the same stem.

The form is in the vendor's open kernel (chunklist.h). The signature behind the sums needs the vendor's key: the sums
show damage, and prove nothing of who made them.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

from msgspec import Struct

from ..common.errors import SourceError
from ..common.progress import Progress
from ..common.record import Record, raw, record, u8, u32, u64
from ..content.contents import Content, Reader, Whence, seekable, stream

ENDING = ".chunklist"
_MAGIC = b"CNKL"
_MOST = 64 << 20
"""Bytes of a list."""
_AGAIN = "Download or copy the installer again."


@record(size=36)
class ChunkListHead(Record):
    """struct chunklist_hdr."""

    cl_magic: bytes = raw(0, 4, "'CNKL'")
    cl_header_size: int = u32(4, "bytes")
    cl_file_ver: int = u8(8, "1")
    cl_chunk_method: int = u8(9, "1: SHA-256")
    cl_sig_method: int = u8(10, "how it is signed")
    unused: int = u8(11, "")
    cl_chunk_count: int = u64(12, "")
    cl_chunk_offset: int = u64(20, "byte of the first chunk's entry")
    cl_sig_offset: int = u64(28, "byte of the signature")


@record(size=36)
class Chunk(Record):
    """struct chunklist_chunk."""

    chunk_size: int = u32(0, "bytes")
    chunk_sha256: bytes = raw(4, 32, "of them")


class ChunkList(Struct, frozen=True):
    """What a list says of its image."""

    name: str
    chunks: tuple[Chunk, ...]

    @property
    def size(self) -> int:
        """Bytes of the image."""
        return sum(chunk.chunk_size for chunk in self.chunks)


def read_chunk_list(content: Content, name: str) -> ChunkList | None:
    """Return a list; None of a file in another form. Raises SourceError for one that is damaged."""
    data = b"".join(bytes(piece) for piece in stream(content)) if content.size <= _MOST else b""
    if data[:4] != _MAGIC:
        return None

    def fault(why: str) -> SourceError:
        return SourceError(f"{name} is damaged: {why}.", advice=_AGAIN)

    if len(data) < ChunkListHead.SIZE:
        raise fault("it ends within its head")
    head = ChunkListHead.unpack(data)
    if (head.cl_header_size, head.cl_file_ver, head.cl_chunk_method) != (ChunkListHead.SIZE, 1, 1):
        return None
    end = head.cl_chunk_offset + head.cl_chunk_count * Chunk.SIZE
    if head.cl_chunk_offset < ChunkListHead.SIZE or end > len(data) or not end <= head.cl_sig_offset <= len(data):
        raise fault(f"its {head.cl_chunk_count:,} sums lie outside of it")
    chunks = tuple(Chunk.unpack(data, at) for at in range(head.cl_chunk_offset, end, Chunk.SIZE))
    if any(not chunk.chunk_size for chunk in chunks):
        raise fault("one of its pieces has no bytes")
    return ChunkList(name, chunks)


def misfit(listed: ChunkList, size: int) -> str:
    """Return why a list is not that of an image of `size` bytes, as a sentence; '' where it fits."""
    if listed.size == size:
        return ""
    return f"{listed.name} is of an image of {listed.size:,} bytes, and the one beside it has {size:,}."


def compare(content: Content, listed: ChunkList, name: str, progress: Progress) -> None:
    """Read an image to its end. Raises SourceError naming the first piece that is not as the list says."""
    if why := misfit(listed, content.size):
        raise SourceError(why, advice=_AGAIN)
    done = 0
    for piece in stream(ListedContent(content, listed, name)):
        done += len(piece)
        progress("verifying disk image", done, content.size)


class ListedContent:
    """An image's bytes, which are compared with its chunk list while they are read from front to back."""

    def __init__(self, content: Content, listed: ChunkList, name: str) -> None:
        self.content, self.listed, self.name = content, listed, name

    @property
    def size(self) -> int:
        return self.content.size

    def where(self) -> Whence:
        return self.content.where()

    def read_at(self, offset: int, size: int) -> bytes:
        return seekable(self.content).read_at(offset, size)

    def open(self) -> Reader:
        return _ListedReader(self, self.content.open())


class _ListedReader:
    """A piece's last bytes come only where its sum is right."""

    def __init__(self, content: ListedContent, inner: Reader) -> None:
        self._content, self._inner = content, inner
        self._number = self._start = 0
        self._left, self._sum = self._next()

    def _next(self) -> tuple[int, hashlib._Hash]:
        chunks: Sequence[Chunk] = self._content.listed.chunks
        return chunks[self._number].chunk_size if self._number < len(chunks) else 0, hashlib.sha256()

    def readinto(self, view: memoryview) -> int:
        got = self._inner.readinto(view)
        done = 0
        while done < got and self._left:
            take = min(self._left, got - done)
            self._sum.update(view[done : done + take])
            self._left -= take
            done += take
            if not self._left:
                self._end_chunk()
        return got

    def _end_chunk(self) -> None:
        chunk = self._content.listed.chunks[self._number]
        if self._sum.digest() != chunk.chunk_sha256:
            end = self._start + chunk.chunk_size - 1
            raise SourceError(
                f"{self._content.name} is damaged: bytes {self._start:,} to {end:,} have another SHA-256 than "
                f"{self._content.listed.name} says.",
                advice=_AGAIN,
            )
        self._start += chunk.chunk_size
        self._number += 1
        self._left, self._sum = self._next()

    def close(self) -> None:
        self._inner.close()


def with_list(content: Content, listed: ChunkList | None, name: str) -> Content:
    """Return an image's bytes, to be compared while they are read where there is a list of them."""
    return ListedContent(content, listed, name) if listed is not None and not misfit(listed, content.size) else content
