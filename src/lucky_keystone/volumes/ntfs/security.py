"""Security descriptors, and the $Secure file that keeps each of them once.

A file names its descriptor by number; $Secure has the descriptors in a stream ($SDS) and finds them by two indexes, by
number ($SII) and by hash ($SDH).
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import cache

from msgspec import Struct

from ...common.descriptors import ADMINISTRATORS, EVERYONE, INHERITED_BY_ALL, SYSTEM, allowed, descriptor
from ...content.extents import align_up
from .index import view_entry
from .records import SecurityEntry

FIRST_NUMBER = 0x100
_HALF = 256 << 10  # bytes of descriptors, then the same once more

# Access masks (MS-DTYP 2.4.3).
_FULL, _READ_WRITE = 0x001F_01FF, 0x0012_019F


@cache
def for_system_files() -> bytes:
    """The volume's own files: the system and administrators may read and write them."""
    return descriptor(ADMINISTRATORS, SYSTEM, [allowed(0, _READ_WRITE, sid) for sid in (SYSTEM, ADMINISTRATORS)])


@cache
def for_everyone() -> bytes:
    """All other files: a drive travels, so what is on it belongs to whoever holds it."""
    return descriptor(ADMINISTRATORS, SYSTEM, [allowed(INHERITED_BY_ALL, _FULL, EVERYONE)])


def descriptor_hash(descriptor: bytes) -> int:
    """Return the number that $SDH finds a descriptor by: each word of 32 bits added to the sum, rotated left by 3."""
    total = 0
    padded = descriptor.ljust(align_up(len(descriptor), 4), b"\0")
    for start in range(0, len(padded), 4):
        total = (total << 3 | total >> 29) + int.from_bytes(padded[start : start + 4], "little") & 0xFFFF_FFFF
    return total


class Descriptors(Struct, frozen=True):
    """All descriptors of a volume, with their numbers, and what $Secure holds of them."""

    numbers: dict[bytes, int]
    stream: bytes
    """$SDS, each half written twice."""
    by_hash: tuple[bytes, ...]
    """Entries of $SDH in order."""
    by_number: tuple[bytes, ...]
    """Entries of $SII in order."""


def keep(descriptors: Iterable[bytes]) -> Descriptors:
    """Number `descriptors` (each once, in this order) and lay out $Secure."""
    numbers: dict[bytes, int] = {}
    entries: list[SecurityEntry] = []
    blocks = [bytearray()]
    for each in dict.fromkeys(descriptors):
        length = SecurityEntry.SIZE + len(each)
        if align_up(len(blocks[-1]), 16) + length > _HALF:
            blocks.append(bytearray())
        block = blocks[-1]
        block += bytes(align_up(len(block), 16) - len(block))
        number = FIRST_NUMBER + len(numbers)
        offset = (len(blocks) - 1) * 2 * _HALF + len(block)
        entry = SecurityEntry(hash=descriptor_hash(each), number=number, offset=offset, length=length)
        block += entry.pack() + each
        numbers[each] = number
        entries.append(entry)
    stream = b"".join(bytes(block).ljust(_HALF, b"\0") * 2 for block in blocks[:-1])
    stream += bytes(blocks[-1]).ljust(_HALF, b"\0") + bytes(blocks[-1])
    # Four bytes of filling in $SDH; systems write these letters and ignore them.
    by_hash = [
        view_entry(entry.hash.to_bytes(4, "little") + entry.number.to_bytes(4, "little"), entry.pack(), b"I\0I\0")
        for entry in sorted(entries, key=lambda entry: (entry.hash, entry.number))
    ]
    by_number = [view_entry(entry.number.to_bytes(4, "little"), entry.pack()) for entry in entries]
    return Descriptors(numbers, stream, tuple(by_hash), tuple(by_number))
