"""Attributes, run lists and file records as bytes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from functools import cache

from ...common.record import packer
from ...content.extents import align_up
from ..volume import Run
from .records import (
    ATTRIBUTE_SPARSE,
    END_OF_ATTRIBUTES,
    INDEXED,
    NONRESIDENT,
    RESIDENT,
    STRIDE,
    AttributeHeader,
    FileRecordHeader,
    NonresidentForm,
    ResidentForm,
)

RESIDENT_HEAD = AttributeHeader.SIZE + ResidentForm.SIZE
"""Bytes of a resident attribute in front of its name or value.

Of a non-resident one, in front of its name or run list:
"""
NONRESIDENT_HEAD = AttributeHeader.SIZE + NonresidentForm.SIZE
_END = END_OF_ATTRIBUTES.to_bytes(4, "little") + bytes(4)
_NOWHERE = (1 << 64) - 1
WIDEST_RUN = 1 + 8 + 8
"""Bytes of the longest mapping pair."""


def filetime(moment: datetime) -> int:
    """Return a moment as NTFS keeps it: units of 100 ns since 1601. Sources know no zone; theirs is taken for UTC."""
    since = moment - datetime(1601, 1, 1)
    return max(since // timedelta(microseconds=1) * 10, 0)


def mapping_pairs(runs: Iterable[Run]) -> bytes:
    """Return a run list: for each run the sizes of two numbers, its length, and how far it lies from the run before."""
    pieces: list[bytes] = []
    before = 0
    for run in runs:
        length_size = run.count.bit_length() // 8 + 1  # signed
        length = run.count.to_bytes(length_size, "little")
        if run.is_hole:
            pieces.append(bytes((length_size,)) + length)
            continue
        step = run.first - before
        before = run.first
        step_size = (step if step >= 0 else ~step).bit_length() // 8 + 1
        pieces.append(bytes((step_size << 4 | length_size,)) + length + step.to_bytes(step_size, "little", signed=True))
    return b"".join(pieces) + b"\0"


_resident_head = packer(
    (AttributeHeader, {"form": RESIDENT, "name_offset": RESIDENT_HEAD, "flags": 0}),
    (ResidentForm, {}),
    names=("type", "length", "name_length", "instance", "value_length", "value_offset", "indexed"),
)
_nonresident_head = packer(
    (AttributeHeader, {"form": NONRESIDENT}),
    (NonresidentForm, {"lowest_vcn": 0}),
    names=(
        *("type", "length", "name_length", "name_offset", "flags", "instance"),
        *("highest_vcn", "mapping_offset", "allocated", "size", "valid"),
    ),
)


def resident(kind: int, value: bytes, instance: int, name: str = "", *, indexed: bool = False) -> bytes:
    """Return an attribute whose value is in the record."""
    stored = name.encode("utf-16-le", "surrogatepass")
    at = RESIDENT_HEAD + len(stored) + 7 & ~7
    length = at + len(value) + 7 & ~7
    head = _resident_head(kind, length, len(stored) // 2, instance, len(value), at, INDEXED if indexed else 0)
    return ((head + stored).ljust(at, b"\0") + value).ljust(length, b"\0")


def nonresident(
    kind: int, runs: Sequence[Run], size: int, cluster_size: int, instance: int, name: str = "", *, sparse: bool = False
) -> bytes:
    """Return an attribute whose `size` bytes lie in `runs`. Only a `sparse` one tells how much its holes save."""
    count = sum(run.count for run in runs)
    stored = name.encode("utf-16-le", "surrogatepass")
    name_at = NONRESIDENT_HEAD + (8 if sparse else 0)
    at = name_at + len(stored) + 7 & ~7
    pairs = mapping_pairs(runs)
    length = at + len(pairs) + 7 & ~7
    flags, highest = ATTRIBUTE_SPARSE if sparse else 0, count - 1 if count else _NOWHERE
    head = _nonresident_head(
        kind, length, len(stored) // 2, name_at, flags, instance, highest, at, count * cluster_size, size, size
    )
    if sparse:
        head += (sum(run.count for run in runs if not run.is_hole) * cluster_size).to_bytes(8, "little")
    return ((head + stored).ljust(at, b"\0") + pairs).ljust(length, b"\0")


def room_for_attributes(record_size: int) -> int:
    """Bytes of a file record that attributes can have."""
    return record_size - _first_attribute(record_size) - len(_END)


@cache
def _first_attribute(record_size: int) -> int:
    return align_up(FileRecordHeader.SIZE + 2 * (record_size // STRIDE + 1), 8)


_record_head = packer(
    (FileRecordHeader, {}),
    names=(
        *("sequence_count", "sequence_number", "link_count", "first_attribute"),
        *("flags", "used", "allocated", "base", "next_instance", "number"),
    ),
)


def file_record(
    number: int,
    sequence: int,
    flags: int,
    links: int,
    attributes: Sequence[bytes],
    record_size: int,
    *,
    instances: int,
    base: int = 0,
) -> bytes:
    """Return a file record, its update sequence in place. `instances` is how many attributes the whole file has."""
    at = _first_attribute(record_size)
    body = b"".join((*attributes, _END))
    strides = record_size // STRIDE
    head = _record_head(strides + 1, sequence, links, at, flags, at + len(body), record_size, base, instances, number)
    record = bytearray(record_size)
    record[: len(head)] = head
    if at + len(body) > record_size:
        raise AssertionError(f"file record {number}: {at + len(body)} bytes do not fit {record_size}")
    record[at : at + len(body)] = body
    guard(record, FileRecordHeader.SIZE)
    return bytes(record)


def guard(block: bytearray, sequence_offset: int) -> None:
    """Move the last two bytes of each stride into the update sequence, and put its number (1) in their place."""
    block[sequence_offset] = 1
    at = sequence_offset + 2
    for end in range(STRIDE, len(block) + 1, STRIDE):
        block[at : at + 2] = block[end - 2 : end]
        block[end - 2 : end] = b"\1\0"
        at += 2
