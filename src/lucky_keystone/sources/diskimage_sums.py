"""A disk image and its own checksums: of each partition's map, of the stored blocks, of the sums together."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct, field

from ..common.errors import SourceError
from ..common.progress import Progress
from ..content.contents import BLOCK, Content, Reader, Seekable, Whence, seekable
from .diskimage import BlockRun, DiskImage, PartitionMap, is_disk_image
from .udif_records import IGNORE, ZERO_FILL, Checksum, Trailer

_STAGE = "verifying disk image"


class Verified(Struct, frozen=True):
    """What the image's own checksums say."""

    wrong: list[str] = field(default_factory=list)
    """A sentence each."""
    right: list[str] = field(default_factory=list)
    """What was compared, in words."""
    unverified: list[str] = field(default_factory=list)
    """What carries no checksum."""


def verify(image: DiskImage, progress: Progress) -> Verified:
    """Compare everything with the image's checksums. Raises SourceError for a block that cannot be decoded."""
    found = Verified()
    total, done = image.size + image.trailer.data_length, 0

    def hear(count: int) -> None:
        nonlocal done
        done += count
        progress(_STAGE, min(done, total - 1), total)

    for part in image.maps:
        name, expected = part.name or "a partition", part.checksum.crc32
        if expected is None:
            found.unverified.append(f"{name} carries no checksum")
            continue
        sums = _sums_of(image, part, hear)
        if expected in sums:
            found.right.append(name)
        else:
            found.wrong.append(f"{name}: its checksum is {expected:08X}, {sums[0]:08X} comes out.")
    _verify_stored(image, found, hear)
    _verify_master(image, found)
    progress(_STAGE, total, total)
    return found


def _sums_of(image: DiskImage, part: PartitionMap, hear: Callable[[int], None]) -> list[int]:
    """Return a map's sum with zero fill, with ignored blocks, with both, and with neither.

    Types 0 and 2 stand for zero fill and ignored blocks, and some programs take them the other way round: a map is
    wrong only when its sum fits in none of the ways.
    """
    sums = [0, 0, 0, 0]
    for kind, start, size in _spans(part.runs):
        counts = (kind != IGNORE, kind != ZERO_FILL, True, kind not in (IGNORE, ZERO_FILL))
        buffer = memoryview(bytearray(min(size, BLOCK)))
        for at in range(0, size, BLOCK):
            view = buffer[: min(BLOCK, size - at)]
            image.readinto_at(0, start + at, view)
            summed = {crc: zlib.crc32(view, crc) for crc in set(sums)}  # mostly all four are one
            sums = [summed[crc] if count else crc for crc, count in zip(sums, counts, strict=True)]
            hear(len(view))
    return sums


def _spans(runs: Sequence[BlockRun]) -> Iterator[tuple[int, int, int]]:
    """Yield blocks that follow each other and count alike as one (kind, start, size): many are decoded side by side."""
    kind, start, end = -1, 0, 0
    for run in runs:
        counts_as = run.kind if run.kind in (ZERO_FILL, IGNORE) else -1
        if (counts_as, run.start) != (kind, end):
            if end > start:
                yield kind, start, end - start
            kind, start = counts_as, run.start
        end = run.start + run.size
    if end > start:
        yield kind, start, end - start


def _verify_stored(image: DiskImage, found: Verified, hear: Callable[[int], None]) -> None:
    expected = Checksum.unpack(image.trailer.data_checksum).crc32
    if expected is None:
        found.unverified.append("the stored blocks carry no checksum")
        return
    crc, start, length = 0, image.trailer.data_offset, image.trailer.data_length
    for at in range(0, length, BLOCK):
        data = image.stored.read_at(start + at, min(BLOCK, length - at))
        crc = zlib.crc32(data, crc)
        hear(len(data))
    if crc == expected:
        found.right.append("the stored blocks")
    else:
        found.wrong.append(f"The stored blocks: their checksum is {expected:08X}, {crc:08X} comes out.")


def _verify_master(image: DiskImage, found: Verified) -> None:
    expected = Checksum.unpack(image.trailer.master_checksum).crc32
    sums = [part.checksum.crc32 for part in image.maps]
    if expected is None or None in sums:
        found.unverified.append("there is no checksum of the checksums")
        return
    crc = zlib.crc32(b"".join((value or 0).to_bytes(4, "big") for value in sums))
    if crc == expected:
        found.right.append("the sum of checksums")
    else:
        found.wrong.append(f"The checksum of checksums is {expected:08X}, {crc:08X} comes out.")


# -- while an image is copied ----------------------------------------------------------------------------------------


class CheckedImage:
    """A disk image's own bytes, which are summed while they are read from front to back.

    The last of them come only where the sum is that of the image's trailer.
    """

    def __init__(self, content: Seekable, name: str, trailer: Trailer, expected: int) -> None:
        self._content, self.name, self.expected = content, name, expected
        self.start, self.end = trailer.data_offset, trailer.data_offset + trailer.data_length

    @property
    def size(self) -> int:
        return self._content.size

    def where(self) -> Whence:
        return self._content.where()

    def read_at(self, offset: int, size: int) -> bytes:
        return self._content.read_at(offset, size)

    def open(self) -> Reader:
        return _CheckedReader(self, self._content.open())


class _CheckedReader:
    def __init__(self, image: CheckedImage, inner: Reader) -> None:
        self._image, self._inner = image, inner
        self._done = self._crc = 0

    def readinto(self, view: memoryview) -> int:
        got = self._inner.readinto(view)
        image = self._image
        first, last = max(image.start - self._done, 0), min(image.end - self._done, got)
        if first < last:
            self._crc = zlib.crc32(view[first:last], self._crc)
        self._done += got
        if self._done == image.size and got and self._crc != image.expected:
            raise SourceError(
                f"{image.name} is damaged: the checksum of its stored blocks is {image.expected:08X}, "
                f"{self._crc:08X} comes out.",
                advice="Download or copy the installer again.",
            )
        return got

    def close(self) -> None:
        self._inner.close()


def checked(content: Content, name: str) -> Content:
    """Return a file's bytes, to be compared with its own checksum while they are read, where it is a disk image."""
    if not hasattr(content, "read_at"):
        return content
    stored = seekable(content)
    if not is_disk_image(stored):
        return content
    trailer = Trailer.unpack(stored.read_at(stored.size - Trailer.SIZE, Trailer.SIZE))
    expected = Checksum.unpack(trailer.data_checksum).crc32
    fits = trailer.data_offset + trailer.data_length <= stored.size
    return CheckedImage(stored, name, trailer, expected) if expected is not None and fits else content
