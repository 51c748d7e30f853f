"""File records, attributes, run lists and index nodes out of bytes that may be anything.

No length or offset is believed before it is checked against the bytes it lies in. Raises VolumeError that says what is
wrong.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from msgspec import Struct

from ...common.record import RecordError, unpacker
from ..volume import HOLE, Run, VolumeError
from .records import (
    ATTRIBUTE_COMPRESSED,
    ATTRIBUTE_ENCRYPTED,
    END_OF_ATTRIBUTES,
    ENTRY_HAS_CHILD,
    ENTRY_IS_LAST,
    NONRESIDENT,
    STRIDE,
    AttributeHeader,
    AttributeListEntry,
    FileName,
    FileRecordHeader,
    FolderEntryHeader,
    IndexBlockHeader,
    IndexHeader,
    IndexRoot,
    NonresidentForm,
    ResidentForm,
)

_MOST_RUNS = 100_000


class ParsedAttribute(NamedTuple):
    """An attribute as one record describes it. There may be a million: a tuple is the quickest to make."""

    type: int
    name: str
    instance: int
    flags: int
    value: bytes | None
    """None when it is not resident."""
    lowest_vcn: int = 0
    runs: tuple[Run, ...] = ()
    allocated: int = 0
    size: int = 0
    valid: int = 0

    @property
    def is_plain(self) -> bool:
        """False for a stream that is compressed or encrypted, whose bytes are not those of its clusters."""
        return not self.flags & (ATTRIBUTE_COMPRESSED | ATTRIBUTE_ENCRYPTED)


class ParsedRecord(Struct, frozen=True):
    """A file record."""

    header: FileRecordHeader
    attributes: tuple[ParsedAttribute, ...]


class IndexEntry(Struct, frozen=True):
    """An entry of an index."""

    file: int
    """File reference, in folders."""
    key: bytes
    child: int | None
    """VCN of the block in front of it."""
    is_last: bool


def unguarded(block: bytes, signature: bytes, what: str) -> bytearray:
    """Return a block with its update sequence undone.

    Raises VolumeError when it is another kind, or was written in part.
    """
    if block[:4] != signature:
        raise VolumeError(f"{what}: starts with {block[:4]!r}, {signature!r} was expected.")
    at = int.from_bytes(block[4:6], "little")
    count = int.from_bytes(block[6:8], "little")
    if count != len(block) // STRIDE + 1 or at % 2 or at < 8 or at + 2 * count > min(len(block), STRIDE):
        raise VolumeError(f"{what}: its update sequence ({count} numbers at {at}) is invalid.")
    whole = bytearray(block)
    number = block[at : at + 2]
    for index in range(1, count):
        end = index * STRIDE
        if block[end - 2 : end] != number:
            raise VolumeError(f"{what}: was written in part (stride {index} of its update sequence does not fit).")
        whole[end - 2 : end] = block[at + 2 * index : at + 2 * index + 2]
    return whole


def parse_record(block: bytes, number: int, cluster_count: int) -> ParsedRecord:
    """Return the file record in `block`."""
    what = f"File record {number}"
    data = bytes(unguarded(block, b"FILE", what))
    try:
        header = FileRecordHeader.unpack(data)
        if header.used > len(data):
            raise VolumeError(f"{what}: {header.used} bytes are in use of {len(data)}.")
        return ParsedRecord(
            header, tuple(_attributes(data[: header.used], header.first_attribute, cluster_count, what))
        )
    except RecordError as error:
        raise VolumeError(f"{what}: {error.message}.") from error


_head = unpacker(AttributeHeader, ("type", "length", "form", "name_length", "name_offset", "flags", "instance"))
_resident = unpacker(ResidentForm, ("value_length", "value_offset"))
_nonresident = unpacker(NonresidentForm, ("lowest_vcn", "highest_vcn", "mapping_offset", "allocated", "size", "valid"))
_END = END_OF_ATTRIBUTES.to_bytes(4, "little")
_SMALLEST = AttributeHeader.SIZE + ResidentForm.SIZE


def _attributes(data: bytes, at: int, cluster_count: int, what: str) -> Iterator[ParsedAttribute]:
    while at + 4 <= len(data):
        if data[at : at + 4] == _END:
            return
        if at + AttributeHeader.SIZE > len(data):
            raise VolumeError(f"{what}: an attribute at {at} reaches beyond what is in use.")
        kind, length, form, name_length, name_at, flags, instance = _head(data, at)
        if length < _SMALLEST or length % 8 or at + length > len(data):
            raise VolumeError(f"{_place(what, kind, at)}: a length of {length} is invalid.")
        own = data[at : at + length]
        name = ""
        if name_length:
            if name_at + 2 * name_length > length:
                raise VolumeError(f"{_place(what, kind, at)}: its name lies outside it.")
            name = own[name_at : name_at + 2 * name_length].decode("utf-16-le", "surrogatepass")
        if form == NONRESIDENT:
            yield _spread(own, (kind, name, instance, flags), cluster_count, _place(what, kind, at))
        else:
            size, value_at = _resident(own, AttributeHeader.SIZE)
            if value_at + size > length:
                raise VolumeError(f"{_place(what, kind, at)}: {size} bytes at {value_at} lie outside it.")
            yield ParsedAttribute(kind, name, instance, flags, own[value_at : value_at + size], size=size)
        at += length
    raise VolumeError(f"{what}: its attributes have no end.")


def _place(what: str, kind: int, at: int) -> str:
    return f"{what}, attribute {kind:X}h at {at}"


def _spread(data: bytes, head: tuple[int, str, int, int], cluster_count: int, where: str) -> ParsedAttribute:
    """Return an attribute whose bytes lie in clusters."""
    if len(data) < AttributeHeader.SIZE + NonresidentForm.SIZE:
        raise VolumeError(f"{where}: it is too short for a run list.")
    lowest, highest, mapping_at, allocated, size, valid = _nonresident(data, AttributeHeader.SIZE)
    if mapping_at > len(data):
        raise VolumeError(f"{where}: its run list lies outside it.")
    runs = tuple(parse_runs(data[mapping_at:], cluster_count, where))
    count = sum([run.count for run in runs])
    if (highest + 1) % (1 << 64) != lowest + count:
        raise VolumeError(f"{where}: its runs have {count} clusters from {lowest} on, {highest} should be the last.")
    kind, name, instance, flags = head
    return ParsedAttribute(kind, name, instance, flags, None, lowest, runs, allocated, size, valid)


def parse_runs(data: bytes, cluster_count: int, where: str) -> Iterator[Run]:
    """Yield the runs of mapping pairs, each checked against the volume."""
    at = cluster = found = 0
    while True:
        if at >= len(data):
            raise VolumeError(f"{where}: its run list has no end.")
        length_size, step_size = data[at] & 15, data[at] >> 4
        if not data[at]:
            return
        at += 1
        if not 1 <= length_size <= 8 or step_size > 8 or at + length_size + step_size > len(data):
            raise VolumeError(f"{where}: its run list is damaged at byte {at - 1}.")
        count = int.from_bytes(data[at : at + length_size], "little", signed=True)
        at += length_size
        step = int.from_bytes(data[at : at + step_size], "little", signed=True)
        at += step_size
        found += 1
        if count <= 0 or found > _MOST_RUNS:
            raise VolumeError(f"{where}: a run of {count} clusters is invalid.")
        if not step_size:
            yield Run(HOLE, count)
            continue
        cluster += step
        if cluster < 0 or cluster + count > cluster_count:
            raise VolumeError(f"{where}: clusters {cluster} to {cluster + count - 1} are not on the volume.")
        yield Run(cluster, count)


def parse_attribute_list(data: bytes, what: str) -> Iterator[tuple[AttributeListEntry, str]]:
    """Yield the entries of an attribute list with the attributes' names."""
    at = 0
    while at + AttributeListEntry.SIZE <= len(data):
        entry = AttributeListEntry.unpack(data, at)
        if entry.length < AttributeListEntry.SIZE or at + entry.length > len(data):
            raise VolumeError(f"{what}: an entry of {entry.length} bytes in its attribute list is invalid.")
        name = data[at + entry.name_offset : at + min(entry.name_offset + 2 * entry.name_length, entry.length)]
        yield entry, name.decode("utf-16-le", "replace")
        at += entry.length


def parse_index_root(value: bytes, what: str) -> tuple[IndexRoot, list[IndexEntry]]:
    """Return the head of an $INDEX_ROOT and its entries."""
    try:
        return IndexRoot.unpack(value), list(_entries(value, IndexRoot.SIZE, what))
    except RecordError as error:
        raise VolumeError(f"{what}: {error.message}.") from error


def parse_index_block(block: bytes, vcn: int, what: str) -> list[IndexEntry]:
    """Return the entries of an index block that should be the one at `vcn`."""
    what = f"{what}, index block {vcn}"
    data = bytes(unguarded(block, b"INDX", what))
    try:
        header = IndexBlockHeader.unpack(data)
        if header.vcn != vcn:
            raise VolumeError(f"{what}: its header says block {header.vcn}.")
        return list(_entries(data, IndexBlockHeader.SIZE, what))
    except RecordError as error:
        raise VolumeError(f"{what}: {error.message}.") from error


def _entries(data: bytes, node: int, what: str) -> Iterator[IndexEntry]:
    header = IndexHeader.unpack(data, node)
    at, end = node + header.first_entry, node + header.used
    if end > len(data):
        raise VolumeError(f"{what}: {header.used} bytes of entries do not fit.")
    while True:
        if at + FolderEntryHeader.SIZE > end:
            raise VolumeError(f"{what}: its entries have no end.")
        entry = FolderEntryHeader.unpack(data, at)
        has_child, is_last = bool(entry.flags & ENTRY_HAS_CHILD), bool(entry.flags & ENTRY_IS_LAST)
        least = FolderEntryHeader.SIZE + (8 if has_child else 0) + (0 if is_last else entry.key_length)
        if entry.length < least or entry.length % 8 or at + entry.length > end:
            raise VolumeError(f"{what}: an entry of {entry.length} bytes at {at} is invalid.")
        child = int.from_bytes(data[at + entry.length - 8 : at + entry.length], "little") if has_child else None
        key = b"" if is_last else data[at + FolderEntryHeader.SIZE : at + FolderEntryHeader.SIZE + entry.key_length]
        yield IndexEntry(entry.file, key, child, is_last)
        if is_last:
            return
        at += entry.length


def parse_file_name(value: bytes, what: str) -> tuple[FileName, str]:
    """Return a FILE_NAME and the name behind it."""
    try:
        fixed = FileName.unpack(value)
    except RecordError as error:
        raise VolumeError(f"{what}: {error.message}.") from error
    stored = value[FileName.SIZE : FileName.SIZE + 2 * fixed.name_length]
    if len(stored) != 2 * fixed.name_length or not stored:
        raise VolumeError(f"{what}: a name of {fixed.name_length} characters does not fit.")
    return fixed, stored.decode("utf-16-le", "surrogatepass")
