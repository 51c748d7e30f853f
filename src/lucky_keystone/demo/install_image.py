"""Makes install images for demo discs: real headers, tables, folder trees and facts around invented files."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from xml.sax.saxutils import escape

from msgspec import Struct

from ..common.later import np
from ..content.contents import Content, Joined, Literal, Zeros
from ..content.extents import align_up
from ..wim.records import RESOURCE_METADATA, DirectoryEntry, Header, ResourceHeader, resource_dtype
from ..wim.split import SummedPart

_FOLDER, _NORMAL = 0x10, 0x80


class DemoEdition(Struct, frozen=True):
    """An edition as its XML facts tell it."""

    name: str
    edition_id: str
    files: Sequence[tuple[str, Resource]]


class Resource(Struct, frozen=True):
    """A file's bytes with their SHA-1."""

    content: Content
    sha1: bytes


def small_resource(data: bytes) -> Resource:
    """Return bytes in memory as a resource."""
    return Resource(Literal(data), hashlib.sha1(data).digest())


def hollow_resources(count: int, size: int) -> list[Resource]:
    """Return `count` resources of `size` bytes that are zeros but for their end, so that they cost no disk."""
    digest = hashlib.sha1()
    tail = 4096
    nothing = bytes(1 << 20)
    for start in range(0, size - tail, len(nothing)):
        digest.update(nothing[: min(len(nothing), size - tail - start)])
    resources: list[Resource] = []
    for number in range(count):
        end = hashlib.shake_128(b"tidewell hollow %d" % number).digest(tail)
        mine = digest.copy()
        mine.update(end)
        resources.append(Resource(Joined([Zeros(size - tail), Literal(end)]), mine.digest()))
    return resources


def install_image(
    editions: Sequence[DemoEdition],
    *,
    architecture: int,
    version: tuple[int, int, int, int],
    language: str,
    integrity: bool = True,
    boot_index: int = 0,
) -> Content:
    """Return an uncompressed install image holding `editions`; `architecture` is the XML facts' processor code."""
    resources = {resource.sha1: resource.content for edition in editions for _, resource in edition.files}
    metadata = [_metadata(edition.files) for edition in editions]
    contents: list[tuple[bytes, Content, int]] = [
        (sha1, content, 0) for sha1, content in resources.items() if content.size
    ]
    contents += [(hashlib.sha1(data).digest(), Literal(data), RESOURCE_METADATA) for data in metadata]
    table = np.zeros(len(contents), resource_dtype())
    offset = Header.SIZE
    uses = [
        sum(resource.sha1 == sha1 for edition in editions for _, resource in edition.files) or 1
        for sha1, _, _ in contents
    ]
    for number, (sha1, content, flags) in enumerate(contents):
        table[number] = (content.size | flags << 56, offset, content.size, 1, uses[number], np.void(sha1))
        offset += content.size
    xml = _xml(editions, architecture, version, language, offset)
    xml_offset = offset + table.nbytes
    sums = -(-(xml_offset - Header.SIZE) // (10 << 20)) if integrity else 0
    boot = bytes(24)
    if boot_index:
        entry = table[len(resources) + boot_index - 1] if len(contents) > len(resources) else table[-1]
        boot = ResourceHeader(
            stored_size=int(entry["original_size"]),
            flags=RESOURCE_METADATA,
            offset=int(entry["offset"]),
            original_size=int(entry["original_size"]),
        ).pack()
    header = Header(
        flags=0,
        chunk_size=0,
        guid=hashlib.md5(xml, usedforsecurity=False).digest(),
        image_count=len(editions),
        lookup_table=ResourceHeader(
            stored_size=table.nbytes, flags=RESOURCE_METADATA, offset=offset, original_size=table.nbytes
        ).pack(),
        xml=ResourceHeader(
            stored_size=len(xml), flags=RESOURCE_METADATA, offset=xml_offset, original_size=len(xml)
        ).pack(),
        boot_metadata=boot,
        boot_index=boot_index,
        integrity=ResourceHeader(
            stored_size=12 + 20 * sums, offset=xml_offset + len(xml), original_size=12 + 20 * sums
        ).pack()
        if sums
        else bytes(24),
    ).pack()
    body = Joined([*(content for _, content, _ in contents), Literal(table.tobytes())])
    if sums:
        return SummedPart(Literal(header), body, Literal(xml), sums)
    return Joined([Literal(header), body, Literal(xml)])


_Tree = dict[str, "Resource | _Tree"]


def _metadata(files: Sequence[tuple[str, Resource]]) -> bytes:
    """Return a folder tree: no security data, the root entry, then every folder's entries, each with an end mark."""
    root: _Tree = {}
    for path, resource in files:
        *folders, name = path.split("/")
        here = root
        for folder in folders:
            below = here.setdefault(folder, {})
            assert isinstance(below, dict)
            here = below
        here[name] = resource
    length = align_up(DirectoryEntry.SIZE + 2, 8)
    head = DirectoryEntry(length=length, attributes=_FOLDER, name_length=0).pack().ljust(length, b"\0")
    data = bytearray((8).to_bytes(4, "little") + bytes(4) + head + bytes(8))
    waiting = [(8, root)]
    while waiting:
        at, below = waiting.pop(0)
        place = at + DirectoryEntry.offset_of("children")
        data[place : place + 8] = len(data).to_bytes(8, "little")
        for name, item in below.items():
            if isinstance(item, dict):
                waiting.append((len(data), item))
            data += _entry(name, item)
        data += bytes(8)
    return bytes(data)


def _entry(name: str, item: Resource | _Tree) -> bytes:
    stored = name.encode("utf-16-le")
    length = align_up(DirectoryEntry.SIZE + len(stored) + 2, 8)
    sha1 = item.sha1 if isinstance(item, Resource) and item.content.size else bytes(20)
    attributes = _FOLDER if isinstance(item, dict) else _NORMAL
    entry = DirectoryEntry(length=length, attributes=attributes, sha1=sha1, name_length=len(stored)).pack() + stored
    return entry.ljust(length, b"\0")


def _xml(
    editions: Sequence[DemoEdition], architecture: int, version: tuple[int, int, int, int], language: str, total: int
) -> bytes:
    names = ("MAJOR", "MINOR", "BUILD", "SPBUILD")
    numbers = "".join(f"<{name}>{value}</{name}>" for name, value in zip(names, version, strict=True))
    images = ""
    for index, edition in enumerate(editions, 1):
        size = sum(resource.content.size for _, resource in edition.files)
        images += (
            f'<IMAGE INDEX="{index}"><NAME>{escape(edition.name)}</NAME>'
            f"<DISPLAYNAME>{escape(edition.name)}</DISPLAYNAME>"
            f"<TOTALBYTES>{size}</TOTALBYTES><FILECOUNT>{len(edition.files)}</FILECOUNT><WINDOWS><ARCH>{architecture}</ARCH>"
            f"<EDITIONID>{escape(edition.edition_id)}</EDITIONID><INSTALLATIONTYPE>Client</INSTALLATIONTYPE>"
            f"<LANGUAGES><LANGUAGE>{language}</LANGUAGE><DEFAULT>{language}</DEFAULT></LANGUAGES>"
            f"<VERSION>{numbers}</VERSION></WINDOWS></IMAGE>"
        )
    return f"\ufeff<WIM><TOTALBYTES>{total}</TOTALBYTES>{images}</WIM>".encode("utf-16-le")
