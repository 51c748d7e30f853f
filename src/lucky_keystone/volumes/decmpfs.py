"""Files that volumes of Macs keep compressed: in an attribute, or in the resource fork in chunks of 64 KiB.

The vendor documents no more than the header (struct decmpfs_disk_header in its open source); practice shows the rest.
"""

from __future__ import annotations

import struct
from collections import OrderedDict
from collections.abc import Callable, Sequence

from ..common.record import Record, raw, record, u32, u64
from ..content.chunks import METHODS, ChunkError, decode_chunk
from .volume import VolumeError

_CHUNK = 64 << 10
_KEPT = 16
_MOST_CHUNKS = 1 << 20
_INLINE = {1: "", 3: "zlib", 7: "LZVN", 9: "", 11: "LZFSE"}
_IN_FORK = {4: "zlib", 8: "LZVN", 12: "LZFSE"}
_UNREAD = {5: "without data of its own", 10: "in a fork without compressing", 13: "LZBITMAP", 14: "LZBITMAP"}
"""What has a name and no reader here."""
_FLAGS_OF_RAW = {"zlib": 0x0F, "LZVN": 0x06, "LZFSE": 0xFF}
"""A chunk that did not shrink is stored as it is behind a byte that no compressed one begins with."""


@record(size=16)
class DecmpfsHeader(Record):
    """struct decmpfs_disk_header."""

    compression_magic: bytes = raw(0, 4, "'fpmc'")
    compression_type: int = u32(4, "how, and where")
    uncompressed_size: int = u64(8, "bytes")


class Compressed:
    """A compressed file that is read at any offset."""

    def __init__(
        self, size: int, method: str, places: Sequence[tuple[int, int]], read: Callable[[int, int], bytes]
    ) -> None:
        """`size` in bytes, decoded; `places` has (offset, bytes) of each chunk for `read`."""
        self.size, self.method = size, method
        self._places, self._read = places, read
        self._kept: OrderedDict[int, bytes] = OrderedDict()

    def read_at(self, offset: int, size: int) -> bytes:
        """Return exactly `size` bytes from `offset`. Raises VolumeError for chunks that cannot be decoded."""
        found: list[bytes] = []
        while size > 0:
            number, inside = divmod(offset, _CHUNK)
            piece = self._chunk(number)[inside : inside + size]
            if not piece:
                raise VolumeError(f"Its compressed bytes end at byte {offset:,} of {self.size:,}.")
            found.append(piece)
            offset, size = offset + len(piece), size - len(piece)
        return b"".join(found)

    def _chunk(self, number: int) -> bytes:
        if number not in self._kept:
            if number >= len(self._places):
                raise VolumeError(f"It has {len(self._places):,} compressed chunks; number {number:,} is missing.")
            wanted = min(_CHUNK, self.size - number * _CHUNK)
            self._kept[number] = _decoded(self.method, self._read(*self._places[number]), wanted)
            if len(self._kept) > _KEPT:
                self._kept.popitem(last=False)
        return self._kept[number]


def compressed(attribute: bytes, fork_size: int, read_fork: Callable[[int, int], bytes]) -> Compressed:
    """Return how a file's bytes are read, by attribute and resource fork. Raises VolumeError where they cannot be."""
    if len(attribute) < DecmpfsHeader.SIZE:
        raise VolumeError("The attribute that says how it is compressed is too short.")
    head = DecmpfsHeader.unpack(attribute)
    kind, size, inline = head.compression_type, head.uncompressed_size, attribute[DecmpfsHeader.SIZE :]
    if head.compression_magic == b"fpmc" and kind in _UNREAD:
        raise VolumeError(f"It is stored as type {kind} ({_UNREAD[kind]}), which is not supported.")
    if head.compression_magic != b"fpmc" or (kind not in _INLINE and kind not in _IN_FORK):
        raise VolumeError(f"It is compressed by an unknown method (type {kind}).")
    if kind in _INLINE:
        if size > _CHUNK:
            raise VolumeError(f"{size:,} bytes are more than an attribute can stand for.")
        data = inline[1:] if kind == 9 else inline
        return Compressed(size, _INLINE[kind], [(0, len(data))], lambda offset, count: data[offset : offset + count])
    method, count = _IN_FORK[kind], -(-size // _CHUNK)
    if count > _MOST_CHUNKS:
        raise VolumeError(f"{size:,} bytes of a compressed file are invalid.")
    places = _zlib_places(count, read_fork) if method == "zlib" else _offset_places(count, read_fork)
    if any(offset < 0 or length < 0 or offset + length > fork_size for offset, length in places):
        raise VolumeError("Its compressed chunks reach beyond its resource fork.")
    return Compressed(size, method, places, read_fork)


def _zlib_places(count: int, read: Callable[[int, int], bytes]) -> list[tuple[int, int]]:
    """The fork begins with the head of a resource; then the number of chunks, and of each its place and size."""
    start = int.from_bytes(read(0, 4), "big") + 4
    table = read(start, 4 + 8 * count)
    if len(table) != 4 + 8 * count or struct.unpack_from("<I", table)[0] < count:
        raise VolumeError("The table of its compressed chunks is cut.")
    return [(start + offset, size) for offset, size in struct.iter_unpack("<2I", table[4:])]


def _offset_places(count: int, read: Callable[[int, int], bytes]) -> list[tuple[int, int]]:
    """The fork begins with the place of each chunk, and of the end of the last."""
    table = read(0, 4 * (count + 1))
    if len(table) != 4 * (count + 1):
        raise VolumeError("The table of its compressed chunks is cut.")
    ends = [offset for (offset,) in struct.iter_unpack("<I", table)]
    return [(first, second - first) for first, second in zip(ends, ends[1:], strict=False)]


def _decoded(method: str, data: bytes, size: int) -> bytes:
    if not method:
        return data[:size]
    marker = _FLAGS_OF_RAW[method]
    if data and (data[0] & 0x0F == 0x0F if method == "zlib" else data[0] == marker):
        return data[1 : 1 + size]
    try:
        return decode_chunk(METHODS[method], data, size)
    except ChunkError as error:
        raise VolumeError(f"A compressed chunk of it cannot be decoded: {error.message}") from error
