"""Makes disk images (UDIF) for the demo: an encoder that the product itself has no use for."""

from __future__ import annotations

import bz2
import lzma
import plistlib
import zlib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import BinaryIO

from msgspec import Struct

from ..content.chunks import lzfse
from ..content.contents import Seekable
from ..sources.udif_records import (
    COMMENT,
    IGNORE,
    RAW,
    SECTOR,
    TERMINATOR,
    ZERO_FILL,
    Block,
    BlockMap,
    Checksum,
    Trailer,
)

BLOCK_SIZE = 256 << 10
"""Bytes that a block stands for."""


def _adc(data: bytes) -> bytes:
    """Literal runs, and copies of what has just been: enough to be read back, if not small."""
    out, at, literal = bytearray(), 0, bytearray()

    def flush() -> None:
        for start in range(0, len(literal), 128):
            piece = literal[start : start + 128]
            out.append(0x80 | len(piece) - 1)
            out.extend(piece)
        literal.clear()

    while at < len(data):
        run = next(
            (back for back in (1, 4, 64) if at >= back and data[at : at + 8] == data[at - back : at - back + 8]), 0
        )
        length = 0
        while run and at + length < len(data) and length < 67 and data[at + length] == data[at + length - run]:
            length += 1
        if length >= 8:
            flush()
            if length <= 18:
                out += bytes([length - 3 << 2 | run - 1 >> 8, run - 1 & 0xFF])
            else:
                out += bytes([0x40 | length - 4]) + (run - 1).to_bytes(2, "big")
            at += length
        else:
            literal.append(data[at])
            at += 1
    flush()
    return bytes(out)


ENCODERS: dict[str, tuple[int, Callable[[bytes], bytes]]] = {
    "ADC": (0x8000_0004, _adc),
    "zlib": (0x8000_0005, lambda data: zlib.compress(data, 1)),
    "bzip2": (0x8000_0006, bz2.compress),
    "xz": (0x8000_0008, lambda data: lzma.compress(data, preset=0)),
}
if lzfse is not None:
    ENCODERS["LZFSE"] = (0x8000_0007, lzfse.compress)


class Part(Struct, frozen=True):
    """A partition of the image, with a map of its own."""

    name: str
    content: Seekable
    ignored: Sequence[tuple[int, int]] = ()
    """Bytes (from, to) that are free space: stored as ignored blocks."""


def write_disk_image(path: Path, parts: Sequence[Part], methods: Sequence[str], *, checksums: bool = True) -> None:
    """Write `parts` one behind the other as an image; blocks take turns through `methods` ('raw' is one).

    A method whose package is not installed leaves its turn to zlib.
    """
    methods = [method if method in ENCODERS or method == "raw" else "zlib" for method in methods]
    with path.open("wb") as out:
        first, maps, crc = 0, [], 0
        for number, part in enumerate(parts):
            packed, sectors, crc = _map(out, part, first, number, methods, crc)
            maps.append(packed)
            first += sectors
        length = out.tell()
        sums = b"".join(BlockMap.unpack(packed).checksum[8:12] for packed in maps)
        listed = [
            {"Attributes": "0x0050", "CFName": part.name, "Data": packed, "ID": str(number), "Name": part.name}
            for number, (part, packed) in enumerate(zip(parts, maps, strict=True))
        ]
        text = plistlib.dumps({"resource-fork": {"blkx": listed, "plst": []}})
        out.write(text)
        none = Checksum().pack()
        out.write(
            Trailer(
                data_length=length,
                segment_id=b"Tidewell Ferry Co"[:16],
                data_checksum=_checksum(crc) if checksums else none,
                list_offset=length,
                list_length=len(text),
                master_checksum=_checksum(zlib.crc32(sums)) if checksums else none,
                sector_count=first,
            ).pack()
        )


def _checksum(crc: int) -> bytes:
    return Checksum(type=2, bits=32, value=crc.to_bytes(4, "big").ljust(128, b"\0")).pack()


def _map(
    out: BinaryIO, part: Part, first: int, number: int, methods: Sequence[str], stored_crc: int
) -> tuple[bytes, int, int]:
    """Write a part's blocks; return its map, its sectors, and the sum over all stored blocks so far."""
    blocks = [Block(type=COMMENT, comment=0x2B626567, sector=0, sector_count=0, offset=out.tell(), length=0).pack()]
    crc, size = 0, part.content.size
    sectors = -(-size // SECTOR)
    for index, at in enumerate(range(0, size, BLOCK_SIZE)):
        data = part.content.read_at(at, min(BLOCK_SIZE, size - at))
        data = data.ljust(-(-len(data) // SECTOR) * SECTOR, b"\0")
        kind, stored = RAW, data
        method = methods[index % len(methods)]
        if any(low <= at and at + len(data) <= high for low, high in part.ignored):
            kind, stored = IGNORE, b""
        elif not any(data):
            kind, stored = ZERO_FILL, b""
        elif method != "raw" and len(encoded := ENCODERS[method][1](data)) < len(data):
            kind, stored = ENCODERS[method][0], encoded
        if kind != IGNORE:
            crc = zlib.crc32(data, crc)
        block = Block(
            type=kind,
            sector=at // SECTOR,
            sector_count=len(data) // SECTOR,
            offset=out.tell(),
            length=len(stored),
        )
        blocks.append(block.pack())
        out.write(stored)
        stored_crc = zlib.crc32(stored, stored_crc)
    blocks.append(Block(type=TERMINATOR, sector=sectors, sector_count=0, offset=out.tell(), length=0).pack())
    head = BlockMap(
        first_sector=first,
        sector_count=sectors,
        buffers_needed=BLOCK_SIZE // SECTOR + 8,
        descriptor=number,
        checksum=_checksum(crc),
        block_count=len(blocks),
    )
    return head.pack() + b"".join(blocks), sectors, stored_crc
