"""An install image as a whole, whether it is one file or several parts: its editions, and bytes by their SHA-1."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from ..common.errors import SourceError
from ..common.later import np
from ..content.contents import NO_BYTES, Seekable, Whence, stream
from ..content.ranges import ContentFile, FileRange
from .edition import EditionEntry, EditionTree
from .read import DAMAGED, Edition, InstallImage
from .records import (
    RESOURCE_COMPRESSED,
    RESOURCE_METADATA,
    RESOURCE_SOLID,
    SIZE_MASK,
    SOLID_RESOURCE,
    ResourceHeader,
)

if TYPE_CHECKING:
    from .solid import SolidStreams

_LARGEST_METADATA = 512 << 20


class WholeImage:
    """All parts of an install image. Part 1 has the editions' trees; a file's bytes may be in any part."""

    def __init__(self, parts: Sequence[InstallImage]) -> None:
        """Raises SourceError where a part is missing, or belongs to another image."""
        self.parts = sorted(parts, key=lambda part: part.header.part_number)
        self.first = self.parts[0]
        self._solid_streams: dict[int, SolidStreams] = {}
        numbers = [part.header.part_number for part in self.parts]
        wanted = self.first.header.part_count
        if numbers != list(range(1, wanted + 1)):
            missing = next((n for n in range(1, wanted + 1) if n not in numbers), numbers[-1])
            raise SourceError(
                f"{self.first.place} is a part of an image of {wanted}: part {missing} is missing, or there twice.",
                advice="Put all parts into one folder.",
            )
        stranger = next((part for part in self.parts if part.header.guid != self.first.header.guid), None)
        if stranger is not None:
            raise SourceError(f"{stranger.place} is a part of another image.", advice="Put the right parts together.")

    @property
    def editions(self) -> tuple[Edition, ...]:
        return self.first.editions

    @property
    def is_fast(self) -> bool:
        """False where its bytes have to be unpacked in plain Python."""
        from .packed import METHODS
        from .packing import fast

        return fast.is_there() or not any(part.header.flags & known.flag for part in self.parts for known in METHODS)

    def tree(self, edition: Edition) -> EditionTree:
        """Return what an edition holds. Raises SourceError for metadata that is damaged."""
        number, name = self._tree_row(edition), f"{self.first.place}, edition {edition.index}"
        content = self._content(self.first, number, name)
        if content.size > _LARGEST_METADATA:
            raise SourceError(f"{name}: its folder tree would have {content.size:,} bytes.", advice=DAMAGED)
        return EditionTree(verified(content, self.sum_of(edition), name), name)

    def sum_of(self, edition: Edition) -> bytes:
        """Return the SHA-1 of an edition's folder tree: the same in two images that hold the same edition."""
        return bytes(self.first.resources["sha1"][self._tree_row(edition)])

    def _tree_row(self, edition: Edition) -> int:
        rows = self.first.resources
        flags = rows["size_and_flags"] >> np.uint64(56)
        numbers = np.flatnonzero(flags & np.uint64(RESOURCE_METADATA))
        if not 0 < edition.index <= len(numbers):
            raise SourceError(
                f"{self.first.place} has {len(numbers)} folder trees, but lists an edition {edition.index}.",
                advice=DAMAGED,
            )
        return int(numbers[edition.index - 1])

    def content(self, entry: EditionEntry, name: str) -> Seekable:
        """Return a file's bytes. Raises SourceError where no part has them; `verified` checks their SHA-1."""
        return NO_BYTES if entry.is_empty else self.content_by(entry.sha1, name)

    def content_by(self, sha1: bytes, name: str) -> Seekable:
        """Return the bytes that have this SHA-1, which is not verified. Raises SourceError where no part has them."""
        return self._content(*self._place_of(sha1, name), name)

    def size_by(self, sha1: bytes, name: str) -> int:
        """Return how many bytes have this SHA-1. Raises SourceError where no part has them."""
        part, row = self._place_of(sha1, name)
        return self._sizes[part.header.part_number][row]

    def where_is(self, sha1: bytes) -> Whence:
        """Return where the bytes come from: of solid ones, the place within what is unpacked."""
        part, row = self._place_of(sha1, "")
        word, offset, _ = self._rows[part.header.part_number][row]
        base, inside = self._begins[part.header.part_number], 0
        if word >> 56 & RESOURCE_SOLID:
            offset, inside = self._solid(part).place_of(row)
        return Whence(base.file, base.stored + base.inside + offset, inside)

    def _place_of(self, sha1: bytes, name: str) -> tuple[InstallImage, int]:
        place = self._places.get(sha1)
        if place is None:
            raise SourceError(f"{name}: its bytes are in no part of {self.first.place}.", advice=DAMAGED)
        return place

    def size_of(self, entry: EditionEntry) -> int:
        """Return the bytes of a file; 0 where no part has them."""
        place = self._places.get(entry.sha1)
        if place is None:
            return 0
        return self._sizes[place[0].header.part_number][place[1]]

    def order_of(self, entry: EditionEntry) -> tuple[int, int]:
        """Return what files are sorted by, to be read in the order in which they lie."""
        place = self._places.get(entry.sha1)
        return (place[0].header.part_number, int(place[0].resources["offset"][place[1]])) if place else (0, 0)

    @cached_property
    def _sizes(self) -> dict[int, list[int]]:
        """Bytes of every resource when unpacked, by part and row."""
        found: dict[int, list[int]] = {}
        for part in self.parts:
            word = part.resources["size_and_flags"]
            is_solid = (word >> np.uint64(56) & np.uint64(RESOURCE_SOLID)) != 0
            sizes = np.where(is_solid, word & np.uint64(SIZE_MASK), part.resources["original_size"])
            found[part.header.part_number] = sizes.tolist()
        return found

    @cached_property
    def _begins(self) -> dict[int, Whence]:
        """Where each part begins."""
        return {part.header.part_number: part.content.where() for part in self.parts}

    @cached_property
    def _rows(self) -> dict[int, list[tuple[int, int, int]]]:
        """Size and flags, offset, and bytes when unpacked, of every resource, by part and row."""
        names = ("size_and_flags", "offset", "original_size")
        return {
            part.header.part_number: list(zip(*(part.resources[name].tolist() for name in names), strict=True))
            for part in self.parts
        }

    @cached_property
    def _places(self) -> dict[bytes, tuple[InstallImage, int]]:
        found: dict[bytes, tuple[InstallImage, int]] = {}
        for part in self.parts:
            raw = np.ascontiguousarray(part.resources["sha1"]).tobytes()
            here = part.resources["part"] == part.header.part_number
            here &= part.resources["original_size"] != SOLID_RESOURCE  # those do not belong to a file
            for number in np.flatnonzero(here):
                found[raw[20 * int(number) : 20 * int(number) + 20]] = part, int(number)
        return found

    def _solid(self, part: InstallImage) -> SolidStreams:
        number = part.header.part_number
        if number not in self._solid_streams:
            from .solid import SolidStreams

            self._solid_streams[number] = SolidStreams(part)
        return self._solid_streams[number]

    def _content(self, part: InstallImage, number: int, name: str) -> Seekable:
        word, offset, original_size = self._rows[part.header.part_number][number]
        stored_size, flags = word & SIZE_MASK, word >> 56
        if flags & RESOURCE_SOLID:
            return self._solid(part).content(number, name)
        if offset + stored_size > part.content.size:
            raise SourceError(f"{name}: its bytes are outside of {part.place}.", advice=DAMAGED)
        if not flags & RESOURCE_COMPRESSED:
            if stored_size != original_size:
                raise SourceError(f"{name}: it has two sizes, but is not compressed.", advice=DAMAGED)
            return _within(part.content, offset, stored_size, name)
        from .packed import METHODS, unpacked  # with the decoders, which much is asked of an image without

        place = ResourceHeader(stored_size=stored_size, flags=flags, offset=offset, original_size=original_size)
        method = next((known for known in METHODS if part.header.flags & known.flag), None)
        if method is None:
            raise SourceError(f"{part.place} is compressed with an unknown method.", advice=DAMAGED)
        return unpacked(part.content, place, method, part.header.chunk_size, f"{part.place}: {name}")


def _within(content: Seekable, offset: int, size: int, name: str) -> Seekable:
    if isinstance(content, FileRange):
        return FileRange(content.file, content.offset + offset, size)
    return FileRange(ContentFile(content, name), offset, size)


def verified(content: Seekable, sha1: bytes, name: str) -> bytes:
    """Return all bytes of a content. Raises SourceError where their SHA-1 is another one."""
    data = b"".join(bytes(piece) for piece in stream(content))
    if hashlib.sha1(data).digest() != sha1:
        raise SourceError(f"{name}: its bytes do not match their SHA-1.", advice=DAMAGED)
    return data
