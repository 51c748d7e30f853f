"""The volume's own files: what each of them holds besides its name."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from ...content.contents import Content, Generated
from ...content.extents import MIB
from ..bits import bits
from .index import IndexShape, shape, view_entry
from .records import (
    ATTRIBUTE_LIST,
    BITMAP,
    COLLATE_FILE_NAME,
    COLLATE_NUMBER,
    COLLATE_NUMBERS,
    COLLATE_SECURITY_HASH,
    COLLATE_SECURITY_ID,
    DATA,
    EA,
    EA_INFORMATION,
    FILE_NAME,
    INDEX_ALLOCATION,
    INDEX_ROOT,
    LOGGED_UTILITY_STREAM,
    OBJECT_ID,
    OBJECT_IDS,
    QUOTA,
    REPARSE_POINT,
    REPARSE_POINTS,
    SECURE,
    SECURITY_DESCRIPTOR,
    STANDARD_INFORMATION,
    VOLUME_INFORMATION,
    VOLUME_NAME,
    AttributeDefinition,
    QuotaEntry,
    ReparseKey,
)
from .security import Descriptors

_VIEW_ROOT_ROOM = 160  # bytes of a view index's root
_SMALLEST_LOG, _LARGEST_LOG = MIB, 16 * MIB
_ANY = (1 << 64) - 1


class ViewIndex(Struct, frozen=True):
    """An index whose keys are not names."""

    name: str
    collation: int
    entries: tuple[bytes, ...]
    found: IndexShape


def _view(name: str, collation: int, entries: Sequence[bytes]) -> ViewIndex:
    return ViewIndex(name, collation, tuple(entries), shape([len(entry) for entry in entries], _VIEW_ROOT_ROOM))


def view_indexes(
    descriptors: Descriptors, reparse_points: Sequence[tuple[int, int]], newest: int
) -> dict[int, tuple[ViewIndex, ...]]:
    """Return the view indexes by file number.

    `reparse_points` has tag and file reference of each, `newest` a file time.
    """
    points = [ReparseKey(tag=tag, file=file).pack() for tag, file in reparse_points]
    points.sort(key=lambda key: [int.from_bytes(key[at : at + 4], "little") for at in (0, 4, 8)])
    usual_quota = view_entry((1).to_bytes(4, "little"), QuotaEntry(changed=newest).pack())
    return {
        SECURE: (
            _view("$SDH", COLLATE_SECURITY_HASH, descriptors.by_hash),
            _view("$SII", COLLATE_NUMBER, descriptors.by_number),
        ),
        QUOTA: (_view("$O", COLLATE_SECURITY_ID, ()), _view("$Q", COLLATE_NUMBER, (usual_quota,))),
        OBJECT_IDS: (_view("$O", COLLATE_NUMBERS, ()),),
        REPARSE_POINTS: (_view("$R", COLLATE_NUMBERS, [view_entry(key, b"") for key in points]),),
    }


def attribute_definitions() -> bytes:
    """Return $AttrDef: which attributes there are, as systems write it."""
    table = (
        ("$STANDARD_INFORMATION", STANDARD_INFORMATION, 0, 0x40, 0x30, 0x48),
        ("$ATTRIBUTE_LIST", ATTRIBUTE_LIST, 0, 0x80, 0, _ANY),
        ("$FILE_NAME", FILE_NAME, COLLATE_FILE_NAME, 0x42, 0x44, 0x242),
        ("$OBJECT_ID", OBJECT_ID, 0, 0x40, 0, 0x100),
        ("$SECURITY_DESCRIPTOR", SECURITY_DESCRIPTOR, 0, 0x80, 0, _ANY),
        ("$VOLUME_NAME", VOLUME_NAME, 0, 0x40, 2, 0x100),
        ("$VOLUME_INFORMATION", VOLUME_INFORMATION, 0, 0x40, 0xC, 0xC),
        ("$DATA", DATA, 0, 0, 0, _ANY),
        ("$INDEX_ROOT", INDEX_ROOT, 0, 0x40, 0, _ANY),
        ("$INDEX_ALLOCATION", INDEX_ALLOCATION, 0, 0x80, 0, _ANY),
        ("$BITMAP", BITMAP, 0, 0x80, 0, _ANY),
        ("$REPARSE_POINT", REPARSE_POINT, 0, 0x80, 0, 0x4000),
        ("$EA_INFORMATION", EA_INFORMATION, 0, 0x40, 8, 8),
        ("$EA", EA, 0, 0, 0, 0x10000),
        ("$LOGGED_UTILITY_STREAM", LOGGED_UTILITY_STREAM, 0, 0x80, 0, 0x10000),
    )
    lines = [
        AttributeDefinition(
            name=name.encode("utf-16-le").ljust(128, b"\0"),
            type=kind,
            collation=collation,
            flags=flags,
            smallest=smallest,
            largest=largest,
        ).pack()
        for name, kind, collation, flags, smallest, largest in table
    ]
    return b"".join(lines) + bytes(AttributeDefinition.SIZE)


def log_size(volume_size: int) -> int:
    """Bytes of $LogFile for a volume of `volume_size` bytes."""
    wanted = volume_size // 256 // MIB * MIB
    return min(max(wanted, _SMALLEST_LOG), _LARGEST_LOG)


def clean_log(size: int) -> Content:
    """A log that was never used: all bits set. Systems take it for clean and start it when they mount the volume."""
    piece = b"\xff" * MIB
    return Generated(size, lambda: (piece[: min(MIB, size - done)] for done in range(0, size, MIB)))


def bitmap(count: int, used: Sequence[tuple[int, int]]) -> Content:
    """Return a bitmap of `count` bits with those in `used` (first, end.

    Rising) set, and those behind the last one too.
    """
    size = -(-count // 64) * 8
    return Generated(size, lambda: bits(size, [*used, (count, 8 * size)], "little"))
