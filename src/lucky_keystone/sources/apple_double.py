"""AppleDouble files: what macOS puts beside a file on volumes that cannot hold it (RFC 1740, appendix B).

They are called `._NAME`, or lie below `__MACOSX/` in a zip archive; here they become what they stand for again.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from msgspec import Struct, field
from msgspec.structs import replace

from ..common.errors import KeystoneError
from ..common.record import Record, raw, record, u16, u32
from ..content.contents import Content, Literal, Seekable, seekable
from ..content.ranges import FileRange
from ..content.tree import File, Folder

_MAGIC, _VERSION = 0x0005_1607, 0x0002_0000
_RESOURCE, _FINDER_INFO = 2, 9
_MOST_ENTRIES = 32
_FINDER_SIZE = 32
_PREFIX, _ARCHIVE_FOLDER = "._", "__MACOSX"
_ATTRIBUTES_MAGIC = b"ATTR"
_ATTRIBUTES_AT = 84  # bytes from the file's start: behind one entry for each of the two, 32 bytes and 2 to fill up
_MOST_HEAD = 1 << 20


@record(size=26, big_endian=True)
class DoubleHeader(Record):
    """RFC 1740, appendix A, table of AppleSingle and AppleDouble."""

    magic: int = u32(0, "00051607h")
    version: int = u32(4, "00020000h")
    filler: bytes = raw(8, 16, "", default=bytes(16))
    entries: int = u16(24, "entries")


@record(size=36, big_endian=True)
class AttributesHeader(Record):
    """Lists extended attributes behind the Finder's info (struct attr_header in the vendor's open source)."""

    magic: bytes = raw(0, 4, "'ATTR'")
    debug_tag: int = u32(4, "")
    total_size: int = u32(8, "bytes")
    data_start: int = u32(12, "bytes from the file's start")
    data_length: int = u32(16, "bytes")
    reserved: bytes = raw(20, 12, "", default=bytes(12))
    flags: int = u16(32, "", default=0)
    count: int = u16(34, "attributes")


class Double(Struct):
    """What an AppleDouble file holds."""

    finder_info: bytes = bytes(_FINDER_SIZE)
    resource: Content | None = None
    attributes: dict[str, bytes] = field(default_factory=dict)


def read_double(content: Seekable) -> Double | None:
    """Take an AppleDouble file apart; None for a file that is not one, or is damaged."""
    try:
        return _read(content)
    except (KeystoneError, struct.error, ValueError):
        return None


def _read(content: Seekable) -> Double | None:
    if content.size < DoubleHeader.SIZE:
        return None
    header = DoubleHeader.unpack(content.read_at(0, DoubleHeader.SIZE))
    if (header.magic, header.version) != (_MAGIC, _VERSION) or header.entries > _MOST_ENTRIES:
        return None
    found = Double()
    for kind, offset, length in struct.iter_unpack(">3I", content.read_at(DoubleHeader.SIZE, 12 * header.entries)):
        if offset + length > content.size:
            return None
        if kind == _RESOURCE and length:
            found.resource = _part(content, offset, length)
        elif kind == _FINDER_INFO and length >= _FINDER_SIZE:
            found.finder_info = content.read_at(offset, _FINDER_SIZE)
            found.attributes |= dict(_attributes(content, offset + length))
    return found


def _part(content: Seekable, offset: int, length: int) -> Content:
    if isinstance(content, FileRange):
        return FileRange(content.file, content.offset + offset, length)
    return Literal(content.read_at(offset, length))


def _attributes(content: Seekable, end: int) -> Iterator[tuple[str, bytes]]:
    """Yield the attributes that are listed, and lie, in front of byte `end`. Raises what `read_double` catches."""
    if end < _ATTRIBUTES_AT + AttributesHeader.SIZE or end > _MOST_HEAD:
        return
    held = content.read_at(0, end)
    head = AttributesHeader.unpack(held[_ATTRIBUTES_AT:][: AttributesHeader.SIZE])
    if head.magic != _ATTRIBUTES_MAGIC:
        return
    at, room = _ATTRIBUTES_AT + AttributesHeader.SIZE, end
    for _ in range(head.count):
        offset, length, _, name_length = struct.unpack_from(">IIHB", held, at)
        room -= length  # many that share their bytes would add up to any size
        if room < 0 or offset + length > end:
            raise ValueError("attributes beyond their end")
        yield held[at + 11 : at + 11 + name_length].rstrip(b"\0").decode(), held[offset : offset + length]
        at += -(-(11 + name_length) // 4) * 4


def merge_doubles(root: Folder) -> int:
    """Put into every file and folder what its AppleDouble file holds, and leave those out. Return how many there were.

    A `._NAME` that is not such a file, or has nothing beside it, is left as it is.
    """
    count = 0
    archive = root.entries.get(_ARCHIVE_FOLDER)
    if isinstance(archive, Folder):
        for path, file in archive.files():
            above, _, name = path.rpartition("/")
            beside = root.find_folder(above) if above else root
            if beside is not None and name.startswith(_PREFIX):
                count += _merge(beside, name.removeprefix(_PREFIX), file)
        del root.entries[_ARCHIVE_FOLDER]
    for folder in [root, *(entry for _, entry in root.walk() if isinstance(entry, Folder))]:
        for name in [name for name in folder.entries if name.startswith(_PREFIX)]:
            double = folder.entries[name]
            if isinstance(double, File) and _merge(folder, name.removeprefix(_PREFIX), double):
                del folder.entries[name]
                count += 1
    return count


def _merge(folder: Folder, name: str, file: File) -> bool:
    entry = folder.entries.get(name)
    double = read_double(seekable(file.content)) if entry is not None else None
    if entry is None or double is None:
        return False
    facts = entry.special.unix
    entry.special = replace(
        entry.special,
        unix=replace(
            facts,
            finder_info=double.finder_info,
            resource=double.resource or facts.resource,
            attributes={**facts.attributes, **double.attributes},
        ),
    )
    return True
