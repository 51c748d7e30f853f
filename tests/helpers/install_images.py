"""Install images for tests: packed by the tests' own packers, with everything that a folder tree can hold."""

from __future__ import annotations

import hashlib
import random
import struct
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from .lzms_packer import pack_lzms, translate_x86
from .packers import Token, pack_lzx, pack_xpress, translate_calls

FLAGS = {"none": 0, "xpress": 0x20002, "lzx": 0x40002, "lzms": 0x80002}
MOMENT = 133_800_000_000_000_000  # 100 ns since 1601: 2024-12-30


@dataclass
class Item:
    """A file or folder of a test image."""

    data: bytes | None = b""
    """None: a folder."""
    below: Mapping[str, Item] = field(default_factory=dict)
    streams: Mapping[str, bytes] = field(default_factory=dict)
    short: str = ""
    attributes: int = 0x20
    link: int = 0
    security: bytes = b""


def parse_of(data: bytes) -> list[Token]:
    """Return a greedy parse: matches are looked for by their first three bytes."""
    made: list[Token] = []
    last: dict[bytes, int] = {}
    at = 0
    while at < len(data):
        key = data[at : at + 3]
        before = last.get(key) if len(key) == 3 else None
        length = 0
        if before is not None:
            while length < 257 and at + length < len(data) and data[before + length] == data[at + length]:
                length += 1
        step = length if length >= 3 else 1
        made.append((at - before, length) if length >= 3 and before is not None else data[at])
        for place in range(at, at + step):
            last[data[place : place + 3]] = place
        at += step
    return made


def packed(data: bytes, method: str, chunk: int, chance: random.Random) -> bytes:
    """Return a resource: its chunk table, and chunks of which those that do not shrink are stored as they are."""
    pieces = _pieces(data, method, chunk, chance)
    starts, at = [], 0
    for piece in pieces[:-1]:
        at += len(piece)
        starts.append(at)
    return struct.pack(f"<{len(starts)}I", *starts) + b"".join(pieces)


def _pieces(data: bytes, method: str, chunk: int, chance: random.Random) -> list[bytes]:
    """Return the chunks' stored bytes."""
    pieces = []
    for start in range(0, len(data), chunk):
        piece = data[start : start + chunk]
        if method == "lzms":
            translated = translate_x86(piece)
            small = pack_lzms(parse_of(translated), len(piece), chance)
        elif method == "xpress":
            small = pack_xpress(parse_of(piece), chance, marked=True)
        else:
            translated = translate_calls(piece)
            small = pack_lzx(parse_of(translated), translated, chance, chunk)
        pieces.append(small if len(small) < len(piece) else piece)
    return pieces


def install_image(
    editions: Sequence[Mapping[str, Item]],
    method: str,
    chunk: int = 32768,
    *,
    seed: int = 1,
    name: str = "Crew",
    architecture: int = 9,
    build: int = 0,
    installation: str = "Client",
    solid: bool = False,
) -> bytes:
    """Return an image with an edition for each tree; `architecture` is the XML facts' processor code."""
    chance = random.Random(f"{method} {chunk} {seed}")
    contents: dict[bytes, bytes] = {}
    metadata = [_metadata(tree, contents) for tree in editions]
    rows, out = b"", bytearray(208)
    if solid:
        rows = _solid_rows(out, list(contents.values()), method, chunk, chance)
        contents = {}
    for data, flags in [*((data, 0) for data in contents.values()), *((data, 2) for data in metadata)]:
        stored = data
        if method != "none":
            small = packed(data, method, chunk, chance)
            if len(small) < len(data):
                stored, flags = small, flags | 4
        rows += struct.pack("<QQQHI", len(stored) | flags << 56, len(out), len(data), 1, 1)
        rows += hashlib.sha1(data).digest()
        out += stored
    version = f"<VERSION><MAJOR>6</MAJOR><MINOR>1</MINOR><BUILD>{build}</BUILD></VERSION>" if build else ""
    images = "".join(
        f'<IMAGE INDEX="{n}"><NAME>Tidewell {name} {n}</NAME><WINDOWS><ARCH>{architecture}</ARCH>{version}'
        f"<INSTALLATIONTYPE>{installation}</INSTALLATIONTYPE></WINDOWS>"
        "</IMAGE>"
        for n in range(1, len(editions) + 1)
    )
    xml = f"\ufeff<WIM>{images}</WIM>".encode("utf-16-le")

    def place(size: int, offset: int) -> bytes:
        return struct.pack("<QQQ", size | 2 << 56, offset, size)

    table_at, xml_at = len(out), len(out) + len(rows)
    head = struct.pack(
        "<8sIIII16sHHI",
        b"MSWIM",
        208,
        0xE00 if solid else 0x10D00,
        FLAGS[method],
        chunk if method != "none" else 0,
        hashlib.md5(bytes(out)).digest(),
        1,
        1,
        len(editions),
    )
    head += place(len(rows), table_at) + place(len(xml), xml_at)
    out[: len(head)] = head
    return bytes(out + rows + xml)


_NUMBERS = {"xpress": 1, "lzx": 2, "lzms": 3}


def _solid_rows(out: bytearray, contents: Sequence[bytes], method: str, chunk: int, chance: random.Random) -> bytes:
    """Append contents as two solid resources behind one another; return their rows in the lookup table."""
    half = sum(map(len, contents[: len(contents) // 2]))
    stream, rows = b"".join(contents), b""
    for data in (stream[:half], stream[half:]):
        pieces = _pieces(data, method, chunk, chance)
        stored = struct.pack("<QII", len(data), chunk, _NUMBERS[method])
        stored += struct.pack(f"<{len(pieces)}I", *map(len, pieces)) + b"".join(pieces)
        rows += struct.pack("<QQQHI20x", len(stored) | 0x10 << 56, len(out), 1 << 32, 1, 1)
        out += stored
    at = 0
    for data in contents:
        rows += struct.pack("<QQQHI", len(data) | 0x10 << 56, at, 0, 1, 1) + hashlib.sha1(data).digest()
        at += len(data)
    return rows


def _security_of(tree: Mapping[str, Item]) -> Iterator[bytes]:
    for item in tree.values():
        if item.security:
            yield item.security
        yield from _security_of(item.below)


def _metadata(tree: Mapping[str, Item], contents: dict[bytes, bytes]) -> bytes:
    """Return an edition's metadata: security descriptors, the root, then the folders, each behind its parent."""
    descriptors = list(dict.fromkeys(_security_of(tree)))
    sizes = b"".join(len(each).to_bytes(8, "little") for each in descriptors)
    held = sizes + b"".join(descriptors)
    out = bytearray(struct.pack("<II", 8 + len(held), len(descriptors)) + held)
    out.extend(bytes(-len(out) % 8))
    waiting: list[tuple[int, Mapping[str, Item]]] = []

    def digest(data: bytes) -> bytes:
        if not data:
            return bytes(20)
        sha1 = hashlib.sha1(data).digest()
        contents[sha1] = data
        return sha1

    def add(name: str, item: Item) -> None:
        stored, short = name.encode("utf-16-le"), item.short.encode("utf-16-le")
        length = -(-(102 + (len(stored) + 2 if stored else 0) + (len(short) + 2 if short else 0)) // 8) * 8
        streams = list(item.streams.items())
        listed = [("", item.data or b""), *streams] if streams else []
        attributes = 0x10 | item.attributes & ~0x20 if item.data is None else item.attributes
        sha1 = bytes(20) if listed or item.data is None else digest(item.data)
        if item.data is None:
            waiting.append((len(out) + 16, item.below))
        security = descriptors.index(item.security) if item.security else 0xFFFFFFFF
        entry = struct.pack(
            "<QIIQ16xQQQ20sIQHHH",
            length,
            attributes,
            security,
            0,
            MOMENT,
            MOMENT + 1,
            MOMENT + 2,
            sha1,
            0,
            item.link,
            len(listed),
            len(short),
            len(stored),
        )
        entry += stored + (b"\0\0" if stored else b"") + short
        out.extend(entry.ljust(length, b"\0"))
        for stream, data in listed:
            raw = stream.encode("utf-16-le")
            size = -(-(38 + (len(raw) + 2 if raw else 0)) // 8) * 8
            out.extend(
                struct.pack("<QQ20sH", size, 0, digest(data), len(raw)).ljust(38, b"\0") + raw.ljust(size - 38, b"\0")
            )

    add("", Item(None, tree))
    out.extend(bytes(8))
    while waiting:
        at, below = waiting.pop(0)
        out[at : at + 8] = len(out).to_bytes(8, "little")
        for name, item in below.items():
            add(name, item)
        out.extend(bytes(8))
    return bytes(out)
