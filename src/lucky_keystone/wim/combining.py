"""Composes an install image of chosen editions of one or several others, as content: nothing is copied or packed again.

Header, lookup table and XML are new; resources are ranges of the originals, each content once by its SHA-1, solid
resources whole and as they are packed. An integrity table is made while the image is streamed (`with_sums`).
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from copy import deepcopy
from typing import Any
from xml.etree import ElementTree

from msgspec import Struct
from msgspec.structs import replace

from ..common.errors import SourceError
from ..common.later import np
from ..content.contents import Content, Joined, Literal
from ..content.ranges import FileRange
from .packed import METHODS
from .read import DAMAGED, Edition, InstallImage
from .records import (
    HEADER_SPANNED,
    RESOURCE_COMPRESSED,
    RESOURCE_METADATA,
    RESOURCE_SIZE,
    RESOURCE_SOLID,
    SIZE_MASK,
    SOLID_RESOURCE,
    SOLID_VERSION,
    Header,
    ResourceHeader,
    resource_dtype,
)
from .solid import LARGEST_SOLID, SolidHead
from .split import SummedPart, place_of, subrange, summed_parts
from .whole import WholeImage

_MOST_RESOURCES = 4_000_000


class Wanted(Struct, frozen=True):
    """Editions that are kept of an image, in their order."""

    image: WholeImage
    editions: Sequence[Edition]


class _Row(Struct, frozen=True):
    """A resource that is kept, or the solid one that others lie in."""

    part: InstallImage
    number: int
    flags: int
    offset: int
    stored: int
    original: int
    sha1: bytes


def combined(wanted: Sequence[Wanted], place: str) -> InstallImage:
    """Return an image with these editions, numbered from 1; it has no integrity table.

    Editions of one name get their version, or their number, behind it. Raises SourceError where images are packed in
    ways that one image cannot have, and for damaged ones.
    """
    base = _base([each.image for each in wanted])
    names = _distinct_names([edition for each in wanted for edition in each.editions])
    plain: list[_Row] = []
    solid: list[_Row] = []
    metadata: list[_Row] = []
    taken: set[bytes] = set()
    references: Counter[bytes] = Counter()
    for each in wanted:
        used, rows = _used(each), [row for part in each.image.parts for row in _all_rows(part)]
        references += used
        metadata += _metadata(each, rows)
        here = [row for row in _rows(each.image, rows, used) if row.sha1 not in taken]
        taken |= {row.sha1 for row in here}
        plain += [row for row in here if not row.flags & RESOURCE_SOLID]
        solid += _with_solid(rows, [row for row in here if row.flags & RESOURCE_SOLID], solid)
    in_file = [*plain, *(row for row in solid if row.original == SOLID_RESOURCE), *metadata]
    body, offsets, at = [], {}, Header.SIZE
    for row in in_file:
        if row.offset + row.stored > row.part.content.size:
            raise SourceError(f"{row.part.place}: a resource lies outside of it.", advice=DAMAGED)
        body.append(subrange(row.part.content, row.offset, row.stored))
        offsets[id(row)] = at
        at += row.stored
    table = _table([*plain, *solid, *metadata], offsets, references)
    xml = _xml(wanted, names, at + len(table))
    boot = _boot(wanted)
    header = base.header.with_changes(
        version=SOLID_VERSION if solid else base.header.version,
        flags=base.header.flags & ~HEADER_SPANNED,
        guid=hashlib.sha256(b"".join([*(row.sha1 for row in metadata), *map(str.encode, names)])).digest()[:16],
        part_number=1,
        part_count=1,
        image_count=len(metadata),
        lookup_table=place_of(at, len(table)),
        xml=place_of(at + len(table), len(xml)),
        boot_index=boot,
        boot_metadata=_placed(metadata[boot - 1], offsets) if boot else bytes(24),
        integrity=bytes(24),
    )
    parts = _neighbours_joined([Literal(header.pack()), *body, Literal(table), Literal(xml)])
    return InstallImage(Joined(parts), place)


def with_sums(image: InstallImage) -> Content:
    """Return the bytes of a combined image with an integrity table at their end, which is made while they stream by."""
    at = ResourceHeader.unpack(image.header.xml).offset
    return _SummedImage(*summed_parts(image.header, subrange(image.content, Header.SIZE, at - Header.SIZE), image.xml))


class _SummedImage(SummedPart):
    """Has its tables looked at before it is streamed, to divide it; its own sums are not known then."""

    def read_at(self, offset: int, size: int) -> bytes:
        return Joined(self.parts).read_at(offset, size)


def _base(images: Sequence[WholeImage]) -> InstallImage:
    """Return the image whose header is taken. Raises SourceError for images that are packed in different ways."""
    packed = [image.first for image in images if any(_has_plain_packed(part) for part in image.parts)]
    base = packed[0] if packed else images[0].first
    for other in packed[1:]:
        if _packing(other) != _packing(base):
            raise SourceError(
                f"{other.place} is packed as {_packing(other)}, and {base.place} as {_packing(base)}: "
                "one image has one packing.",
                advice="Build a drive for each, or take images that are packed alike.",
            )
    return base


def _has_plain_packed(part: InstallImage) -> bool:
    flags = part.resources["size_and_flags"] >> np.uint64(56)
    is_solid = (flags & np.uint64(RESOURCE_SOLID)) != 0
    return bool(np.any(((flags & np.uint64(RESOURCE_COMPRESSED)) != 0) & ~is_solid))


def _packing(part: InstallImage) -> str:
    method = next((known.name for known in METHODS if part.header.flags & known.flag), "an unknown method")
    return f"{method} in chunks of {part.header.chunk_size:,} bytes"


def _used(wanted: Wanted) -> Counter[bytes]:
    """Return how often editions use each content, by its SHA-1."""
    found: Counter[bytes] = Counter()
    for edition in wanted.editions:
        for _, entry in wanted.image.tree(edition).walk():
            found.update(sum_ for sum_ in (entry.sha1, entry.second, *(s.sha1 for s in entry.streams)) if any(sum_))
    return found


def _rows(image: WholeImage, rows: Sequence[_Row], used: Counter[bytes]) -> list[_Row]:
    """Return the resources of contents that are used, in the order they lie; solid ones group by group."""
    found: dict[bytes, _Row] = {}
    for row in rows:
        if not row.flags & RESOURCE_METADATA and row.original != SOLID_RESOURCE and row.sha1 in used:
            found.setdefault(row.sha1, row)
    if len(found) < len(used):
        raise SourceError(
            f"{image.first.place}: {len(used) - len(found):,} contents of its editions are in no part of it.",
            advice=DAMAGED,
        )
    return list(found.values())


def _all_rows(part: InstallImage) -> Iterator[_Row]:
    """Yield the rows of a part that lie in it, plain ones by their place, then solid ones as the table has them."""
    rows = part.resources
    here = np.flatnonzero(rows["part"] == part.header.part_number)
    is_solid = (rows["size_and_flags"][here] >> np.uint64(56) & np.uint64(RESOURCE_SOLID)) != 0
    plain = here[~is_solid]
    order = np.concatenate([plain[np.argsort(rows["offset"][plain], kind="stable")], here[is_solid]])
    raw = np.ascontiguousarray(rows["sha1"]).tobytes()
    words, offsets, originals = (rows[name].tolist() for name in ("size_and_flags", "offset", "original_size"))
    for number in order.tolist():
        word = words[number]
        sha1 = raw[20 * number : 20 * number + 20]
        yield _Row(part, number, word >> 56, offsets[number], word & SIZE_MASK, originals[number], sha1)


def _metadata(wanted: Wanted, rows: Sequence[_Row]) -> list[_Row]:
    part = wanted.image.first
    trees = sorted(
        (row for row in rows if row.part is part and row.flags & RESOURCE_METADATA and not row.flags & RESOURCE_SOLID),
        key=lambda row: row.number,
    )
    if any(not 0 < edition.index <= len(trees) for edition in wanted.editions):
        raise SourceError(f"{part.place} lists editions that have no folder tree of their own.", advice=DAMAGED)
    # A row of its own for each: two editions may have one tree.
    return [replace(trees[edition.index - 1]) for edition in wanted.editions]


def _with_solid(rows: Sequence[_Row], files: Sequence[_Row], before: Sequence[_Row]) -> list[_Row]:
    """Return solid resources with the rows of what is kept of them, placed behind those of other images.

    Rows that follow one another in a lookup table belong together, and places run on through all solid resources among
    them: here all of them follow one another, so each place is moved by what lies before.
    """
    base = sum(_unpacked_size(row) for row in before if row.original == SOLID_RESOURCE)
    wanted = set(map(id, files))
    kept: list[_Row] = []
    for group in _groups(rows):
        inside = [row for row in group if id(row) in wanted]
        if not inside:
            continue
        resources = [row for row in group if row.original == SOLID_RESOURCE]
        size = sum(map(_unpacked_size, resources))
        if any(row.offset + row.stored > size for row in inside):
            raise SourceError(f"{group[0].part.place}: contents lie outside of its solid resources.", advice=DAMAGED)
        kept += [*resources, *(replace(row, offset=row.offset + base) for row in inside)]
        base += size
    return kept


def _groups(rows: Sequence[_Row]) -> Iterator[list[_Row]]:
    """Yield the solid rows that follow one another in a part."""
    group: list[_Row] = []
    for row in rows:
        if not row.flags & RESOURCE_SOLID:
            continue
        if group and (row.part is not group[-1].part or row.number != group[-1].number + 1):
            yield group
            group = []
        group.append(row)
    if group:
        yield group


def _unpacked_size(row: _Row) -> int:
    if row.stored < SolidHead.SIZE:
        raise SourceError(f"{row.part.place}: a solid resource is too short.", advice=DAMAGED)
    size = SolidHead.unpack(row.part.content.read_at(row.offset, SolidHead.SIZE)).original_size
    if size > LARGEST_SOLID:
        raise SourceError(f"{row.part.place}: a solid resource of {size:,} bytes is not supported.", advice=DAMAGED)
    return size


def _table(rows: Sequence[_Row], offsets: Mapping[int, int], references: Counter[bytes]) -> bytes:
    if len(rows) > _MOST_RESOURCES:
        raise SourceError(f"{len(rows):,} resources are more than one image can hold.", advice="Keep fewer editions.")
    table: np.ndarray[Any, Any] = np.zeros(len(rows), resource_dtype())
    table["size_and_flags"] = [row.flags << 56 | row.stored for row in rows]
    table["offset"] = [offsets.get(id(row), row.offset) for row in rows]
    table["original_size"] = [row.original for row in rows]
    table["part"] = 1
    table["references"] = [references[row.sha1] or 1 for row in rows]
    table["sha1"] = np.frombuffer(b"".join(row.sha1 for row in rows), "V20") if rows else table["sha1"]
    data = table.tobytes()
    assert len(data) == RESOURCE_SIZE * len(rows)
    return data


def _placed(row: _Row, offsets: Mapping[int, int]) -> bytes:
    return ResourceHeader(
        stored_size=row.stored, flags=row.flags, offset=offsets[id(row)], original_size=row.original
    ).pack()


def _boot(wanted: Sequence[Wanted]) -> int:
    """Return the number of the edition that the first image is started with; 0 where it is none, or left out."""
    first = wanted[0]
    index = first.image.first.header.boot_index
    numbers = [edition.index for edition in first.editions]
    return numbers.index(index) + 1 if index in numbers else 0


def _distinct_names(editions: Sequence[Edition]) -> list[str]:
    """Return a name for each, with the version or a number behind those that others have as well."""
    counts = Counter(edition.name.casefold() for edition in editions)
    names = [
        edition.name if counts[edition.name.casefold()] == 1 or not edition.version else
        f"{edition.name} ({edition.version})"
        for edition in editions
    ]  # fmt: skip
    counts = Counter(map(str.casefold, names))
    return [name if counts[name.casefold()] == 1 else f"{name} ({number})" for number, name in enumerate(names, 1)]


def _xml(wanted: Sequence[Wanted], names: Sequence[str], size: int) -> bytes:
    """Return the facts: the originals' own of each edition, renumbered; `size` is what the whole of it says it has."""
    root = ElementTree.Element("WIM")
    ElementTree.SubElement(root, "TOTALBYTES").text = str(size)
    number = 0
    for each in wanted:
        images = {edition.index: element for edition, element in each.image.first.described()}
        for edition in each.editions:
            element = deepcopy(images[edition.index])
            element.set("INDEX", str(number + 1))
            for name in ("NAME", "DISPLAYNAME"):
                found = element.find(name)
                if found is not None and (found.text or "").strip() == edition.name:
                    found.text = names[number]
            root.append(element)
            number += 1
    return b"\xff\xfe" + ElementTree.tostring(root, "unicode").encode("utf-16-le")


def _neighbours_joined(parts: Sequence[Content]) -> list[Content]:
    """Return contents with ranges of one file that follow each other put together."""
    found: list[Content] = []
    for part in parts:
        last = found[-1] if found else None
        if (
            isinstance(part, FileRange)
            and isinstance(last, FileRange)
            and part.file is last.file
            and part.offset == last.offset + last.size
        ):
            found[-1] = FileRange(last.file, last.offset, last.size + part.size)
        else:
            found.append(part)
    return found
