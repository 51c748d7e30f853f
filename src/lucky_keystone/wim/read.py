"""Reads an install image's header, tables and facts, believing no size or place that the file does not bear out."""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Callable
from functools import cached_property
from typing import Any
from xml.etree import ElementTree

from msgspec import Struct

from ..common.errors import SourceError
from ..common.later import np
from ..common.record import RecordError
from ..content.contents import Seekable
from .records import (
    MAGIC,
    RESOURCE_COMPRESSED,
    RESOURCE_SIZE,
    RESOURCE_SOLID,
    SIZE_MASK,
    SOLID_RESOURCE,
    SOLID_VERSION,
    Header,
    IntegrityHeader,
    ResourceHeader,
    resource_dtype,
)

_MOST_XML = 8 << 20
_MOST_MARKS = 500_000  # '<' in the XML facts: parsing stays within a second or two
_MOST_EDITIONS = 1024
_MOST_NAME = 256
_MOST_TABLE = 256 << 20
_PLACES = struct.Struct(f"<QQQ{RESOURCE_SIZE - 24}x")
"""Of an entry of the lookup table: stored size with its flags, offset, size after decompression."""
DAMAGED = "The image is damaged or incomplete: compare its checksum, or get it again."

ARCHITECTURES = {0: "x86", 9: "x64", 12: "arm64", 5: "arm"}
"""Processor codes of the XML facts."""


class Edition(Struct, frozen=True):
    """What the XML facts tell of one edition in an image."""

    index: int
    name: str
    edition_id: str
    architecture: str
    build: int
    version: str
    languages: tuple[str, ...]
    installation_type: str
    size: int
    """Bytes when installed."""

    @property
    def is_server(self) -> bool:
        return is_server(self.installation_type)


def is_server(installation_type: str) -> bool:
    """Tell by the type in an image's facts: 'Server', 'Server Core'."""
    return "server" in installation_type.lower()


class InstallImage:
    """One install image. Made from any seekable content; `place` names it in messages."""

    def __init__(self, content: Seekable, place: str) -> None:
        self.content, self.place = content, place
        try:
            self.header = Header.unpack(content.read_at(0, min(Header.SIZE, content.size)))
        except RecordError as error:
            raise self._damaged("header", f"only {content.size} bytes long") from error
        if self.header.magic != MAGIC:
            raise SourceError(
                f"{place} is not an install image (its first bytes are {self.header.magic.hex(' ')}).",
                advice="An install image is a .wim file, such as sources/install.wim of an installer disc.",
            )
        if self.header.header_size != Header.SIZE:
            raise self._damaged("header, header_size", f"found {self.header.header_size}, wanted {Header.SIZE}")

    @property
    def is_part(self) -> bool:
        """True when the image is one part of several."""
        return self.header.part_count != 1 or self.header.part_number != 1

    @property
    def solid(self) -> bool:
        """True when several resources are compressed as one stream, so that it cannot be divided."""
        return self.header.version == SOLID_VERSION or self._table[1]

    @cached_property
    def resources(self) -> np.ndarray[Any, Any]:
        """The lookup table as an array of `resource_dtype()`, every place in it proven to lie within the file."""
        return np.frombuffer(self._table[0], resource_dtype())

    @cached_property
    def _table(self) -> tuple[bytes, bool]:
        """The lookup table, every place in it proven, and whether it has solid resources.

        In plain Python: before an array of them was made, NumPy would have to be loaded.
        """
        place = self._resource("lookup_table", _MOST_TABLE)
        if place.stored_size % RESOURCE_SIZE:
            raise self._damaged("lookup table", f"{place.stored_size} bytes are not a whole number of entries")
        data = self.content.read_at(place.offset, place.stored_size)
        whole, taken, has_solid = self.content.size, 0, False
        for number, (word, offset, original_size) in enumerate(_PLACES.iter_unpack(data)):
            size = word & SIZE_MASK
            if word >> 56 & RESOURCE_SOLID:
                has_solid = True
                if original_size != SOLID_RESOURCE:
                    continue  # its place is in the decoded bytes of a solid resource, and not in the file
            if (offset < Header.SIZE or offset + size > whole) and not self.is_part:
                raise self._damaged(
                    f"lookup table entry {number} at offset {place.offset + number * RESOURCE_SIZE}",
                    f"{size} bytes at {offset} do not lie in the file's {whole}",
                )
            taken += size
        if taken > 2 * whole and not self.is_part:
            raise self._damaged("lookup table", "its resources overlap: together they are larger than the file")
        return data, has_solid

    @cached_property
    def xml(self) -> bytes:
        """The XML facts as stored (UTF-16LE with a byte order mark)."""
        place = self._resource("xml", _MOST_XML)
        return self.content.read_at(place.offset, place.stored_size)

    @cached_property
    def editions(self) -> tuple[Edition, ...]:
        """The editions by the XML facts. Raises SourceError for XML that cannot be read."""
        return tuple(edition for edition, _ in self.described())

    def described(self) -> list[tuple[Edition, ElementTree.Element]]:
        """Return each edition with its element of the XML facts. Raises SourceError as `editions` does."""
        text = self.xml.decode("utf-16-le", "replace").lstrip("\ufeff")
        if "<!" in text:  # no declarations are needed here, and entities in them could grow without bound
            raise self._damaged("XML", "it holds declarations, which install images never do")
        if text.count("<") > _MOST_MARKS or text.count("<IMAGE") > _MOST_EDITIONS:
            raise self._damaged("XML", "it describes more than an install image can hold")
        try:
            root = ElementTree.fromstring(text)
        except (ElementTree.ParseError, ValueError) as error:
            raise self._damaged("XML", str(error)) from error
        return [(_edition(image, number), image) for number, image in enumerate(root.iter("IMAGE"), 1)]

    @property
    def has_integrity(self) -> bool:
        """True when the image carries sums of its own bytes."""
        return ResourceHeader.unpack(self.header.integrity).stored_size > 0

    def refuse_broken_tables(self) -> None:
        """Raise SourceError unless every table can be read and lies within the file. Resources are not looked at."""
        if not self._table[0]:
            raise self._damaged("lookup table", "it is empty")
        if not self.editions and not self.is_part:
            raise self._damaged("XML", "it describes no edition")
        if self.has_integrity:
            self._integrity_table()

    def verify_integrity(self, progress: Callable[[int, int], None]) -> None:
        """Read the whole image against its integrity table, telling bytes done and bytes in all.

        Raises SourceError naming the first bad chunk.
        """
        table, head, start, end = self._integrity_table()
        for number in range(head.count):
            offset = start + number * head.chunk_size
            chunk = self.content.read_at(offset, min(head.chunk_size, end - offset))
            if hashlib.sha1(chunk).digest() != table[12 + 20 * number : 32 + 20 * number]:
                raise SourceError(
                    f"{self.place}: bytes {offset} to {offset + len(chunk) - 1} do not match its integrity table.",
                    advice="The image is damaged: get it again.",
                )
            progress(offset + len(chunk) - start, end - start)

    def _integrity_table(self) -> tuple[bytes, IntegrityHeader, int, int]:
        """Return the table, its header, and which bytes of the file its sums are of: start and end."""
        place = self._resource("integrity", 64 << 20)
        table = self.content.read_at(place.offset, place.stored_size)
        try:
            head = IntegrityHeader.unpack(table)
        except RecordError as error:
            raise self._damaged("integrity table", "too short") from error
        lookup_table = self._resource("lookup_table", _MOST_TABLE)
        start, end = Header.SIZE, lookup_table.offset + lookup_table.stored_size
        wanted = -(-(end - start) // head.chunk_size) if head.chunk_size else 0
        if head.count != wanted or len(table) < 12 + 20 * head.count or not wanted or head.chunk_size > 64 << 20:
            raise self._damaged("integrity table", f"{head.count} sums of {head.chunk_size} bytes for {end - start}")
        return table, head, start, end

    def _resource(self, name: str, most: int) -> ResourceHeader:
        """Return the resource header `name` of the file header, proven to lie within the file and uncompressed."""
        place = ResourceHeader.unpack(getattr(self.header, name))
        if place.flags & RESOURCE_COMPRESSED:
            raise self._damaged(name.replace("_", " "), "it is marked as compressed, which is never the case")
        if place.stored_size > most or place.offset + place.stored_size > self.content.size:
            raise self._damaged(
                name.replace("_", " "),
                f"{place.stored_size} bytes at {place.offset} do not lie in the file's {self.content.size}",
            )
        return place

    def _damaged(self, what: str, why: str) -> SourceError:
        return SourceError(f"{self.place}, {what}: {why}.", advice=DAMAGED)


def _edition(image: ElementTree.Element, number: int) -> Edition:
    def text(path: str) -> str:
        return (image.findtext(path) or "").strip()[:_MOST_NAME]

    def count(path: str) -> int:
        value = text(path)
        return int(value) if value.isascii() and value.isdigit() and len(value) < 20 else 0

    index = image.get("INDEX", "")
    numbers = [text(f"WINDOWS/VERSION/{part}") for part in ("MAJOR", "MINOR", "BUILD", "SPBUILD")]
    return Edition(
        index=int(index) if index.isascii() and index.isdigit() and len(index) < 9 else number,
        name=text("DISPLAYNAME") or text("NAME") or f"edition {number}",
        edition_id=text("WINDOWS/EDITIONID"),
        architecture=ARCHITECTURES.get(count("WINDOWS/ARCH"), "unknown") if text("WINDOWS/ARCH") else "unknown",
        build=count("WINDOWS/VERSION/BUILD"),
        version=".".join(number or "0" for number in numbers) if any(numbers) else "",
        languages=tuple(
            lang.text.strip()[:_MOST_NAME]
            for lang in image.findall("WINDOWS/LANGUAGES/LANGUAGE")[:_MOST_NAME]
            if lang.text
        ),
        installation_type=text("WINDOWS/INSTALLATIONTYPE"),
        size=count("TOTALBYTES"),
    )
