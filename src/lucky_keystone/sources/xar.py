"""The members of a xar archive, which flat installer packages are, as contents.

The format is described by its open-source tools: a header, a compressed table of contents in XML, a heap.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Iterator, Mapping
from xml.etree import ElementTree

from msgspec import Struct

from ..common.errors import KeystoneError, SourceError
from ..common.record import Record, raw, record, u16, u32, u64
from ..content.contents import NO_BYTES, Seekable
from ..content.ranges import ContentFile, FileRange
from ..content.tree import MOST_DEPTH
from .deflated import DeflatedFile
from .summed import METHODS, Sum, SummedFile

_MAGIC = b"xar!"
_MOST_TABLE = 64 << 20
_MOST_MEMBERS = 200_000
_MOST_CERTIFICATES = 16
_SIGNATURE = "{http://www.w3.org/2000/09/xmldsig#}X509Certificate"
_AS_STORED = ("", "octet-stream")
_ADVICE = "It is damaged or incomplete: download it again."


@record(size=28, big_endian=True)
class XarHeader(Record):
    """The front of the archive."""

    magic: bytes = raw(0, 4, "'xar!'")
    size: int = u16(4, "bytes of the header")
    version: int = u16(6, "1")
    packed_table: int = u64(8, "bytes of the table of contents as stored")
    table: int = u64(16, "bytes of it, decoded")
    checksum: int = u32(24, "kind of checksum")


class _Place(Struct, frozen=True):
    offset: int
    stored: int
    size: int
    encoding: str
    sum: Sum | None
    """Of its bytes: decoded where they are compressed, stored where they are not."""


def is_xar(content: Seekable) -> bool:
    """Tell by the first bytes."""
    return content.size > XarHeader.SIZE and content.read_at(0, 4) == _MAGIC


class XarArchive:
    """An archive in any content."""

    def __init__(self, content: Seekable, name: str) -> None:
        """Read the table of contents. Raises SourceError where it is damaged."""
        self._content, self._name = content, name
        try:
            header = XarHeader.unpack(content.read_at(0, XarHeader.SIZE))
            self._heap = header.size + header.packed_table
            if max(header.table, header.packed_table) > _MOST_TABLE or self._heap > content.size:
                raise self._fault("its table of contents lies outside of it")
            packed = content.read_at(header.size, header.packed_table)
            text = zlib.decompressobj().decompress(packed, header.table + 1)
        except (KeystoneError, zlib.error) as error:
            raise error if isinstance(error, SourceError) else self._fault("its table is damaged") from error
        if len(text) != header.table or b"<!DOCTYPE" in text or b"<!ENTITY" in text:
            raise self._fault("its table of contents is damaged")
        try:
            root = ElementTree.fromstring(text)
        except (ElementTree.ParseError, LookupError, ValueError) as error:
            raise self._fault("its table of contents is not XML") from error
        self._compare_table(root, packed)
        self.certificates = tuple(_certificates(root))
        """Of its signatures: DER as base64."""
        self._places: Mapping[str, _Place] = dict(self._read(root))

    def _fault(self, why: str) -> SourceError:
        return SourceError(f"{self._name}, a package: {why}.", advice=_ADVICE)

    def _compare_table(self, root: ElementTree.Element, packed: bytes) -> None:
        """Compare the table of contents, as stored, with its sum at the place in the heap that it names."""
        element = root.find("toc/checksum")
        method = _method(element)
        if element is None or method is None:
            return
        try:
            offset, size = (int(element.findtext(key) or "") for key in ("offset", "size"))
        except ValueError as error:
            raise self._fault("where the sum of its table lies is not said") from error
        found = hashlib.new(method, packed, usedforsecurity=False).digest()
        if min(offset, size) < 0 or self._heap + offset + size > self._content.size:
            raise self._fault("the sum of its table lies outside of it")
        if size != len(found) or self._content.read_at(self._heap + offset, size) != found:
            raise self._fault(f"its table of contents is damaged: it has another sum ({method}) than the package says")

    def _read(self, root: ElementTree.Element) -> Iterator[tuple[str, _Place]]:
        waiting = [("", element, 0) for element in root.iterfind("toc/file")]
        count = 0
        while waiting:
            prefix, element, depth = waiting.pop()
            count += 1
            if count > _MOST_MEMBERS or depth > MOST_DEPTH:
                raise self._fault("it has too many members")
            path = prefix + (element.findtext("name") or "")
            waiting += [(path + "/", child, depth + 1) for child in element.iterfind("file")]
            data = element.find("data")
            if data is None:
                continue
            try:
                offset, stored, size = (int(data.findtext(key) or "") for key in ("offset", "length", "size"))
            except ValueError as error:
                raise self._fault(f"where '{path[:80]}' lies is not said") from error
            style = data.find("encoding")
            encoding = style.get("style", "") if style is not None else ""
            if min(offset, stored, size) < 0 or self._heap + offset + stored > self._content.size:
                raise self._fault(f"'{path[:80]}' lies outside of it")
            encoding = encoding.rpartition("/")[2]
            of_it = data.find("archived-checksum" if encoding in _AS_STORED else "extracted-checksum")
            yield path, _Place(self._heap + offset, stored, size, encoding, self._sum(of_it, path))

    def _sum(self, element: ElementTree.Element | None, path: str) -> Sum | None:
        method = _method(element)
        if element is None or method is None:
            return None
        try:
            return Sum(method, bytes.fromhex((element.text or "").strip()))
        except ValueError as error:
            raise self._fault(f"the sum of '{path[:80]}' is not a checksum") from error

    def names(self) -> list[str]:
        """Return the paths of all files."""
        return list(self._places)

    def member(self, path: str) -> Seekable | None:
        """Return a file's bytes, compared with its sum while they are read in order.

        Raises SourceError for an encoding that is not supported.
        """
        place = self._places.get(path)
        if place is None:
            return None
        if not place.size:
            return NO_BYTES
        where = f"{self._name}: {path}"
        stored = FileRange(ContentFile(self._content, self._name), place.offset, place.stored)
        if isinstance(self._content, FileRange):
            stored = FileRange(self._content.file, self._content.offset + place.offset, place.stored)
        if place.encoding in _AS_STORED:
            if place.stored != place.size:
                raise self._fault(f"'{path[:80]}' has {place.stored:,} bytes stored of {place.size:,}")
            return FileRange(SummedFile(stored, where, place.sum), 0, place.size) if place.sum is not None else stored
        if place.encoding == "x-gzip":
            return FileRange(DeflatedFile(stored, place.size, where, wbits=15, expected=place.sum), 0, place.size)
        raise SourceError(
            f"{where} is compressed by a method that is not supported ({place.encoding}).", advice="Unpack it on a Mac."
        )


def _method(element: ElementTree.Element | None) -> str | None:
    """Return how a sum is made; None where there is none, or of a kind that is unknown."""
    style = (element.get("style") or "").lower().replace("-", "") if element is not None else ""
    return style if style in METHODS else None


def _certificates(root: ElementTree.Element) -> Iterator[str]:
    """Yield the certificates of the table's signatures (XML Signature, 4.5.4 "The X509Data Element")."""
    found = [element.text for element in root.iter() if element.tag in (_SIGNATURE, "X509Certificate") and element.text]
    yield from found[:_MOST_CERTIFICATES]
