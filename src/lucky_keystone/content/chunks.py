"""Decodes chunks: pieces of compressed bytes whose decoded size is known, of disk images, HFS+ files, install images.

Whatever the bytes say, no more memory is taken than the known size asks for. A further method is a Decoder in the list
of who stores chunks so; streams that say their size at their end, or nowhere, are `sources/decoders`.
"""

from __future__ import annotations

import bz2
import importlib
import lzma
import struct
import zlib
from collections.abc import Callable, Mapping
from types import ModuleType
from typing import Any

from msgspec import Struct

from ..common.errors import SourceError


def _installed(name: str) -> ModuleType | None:
    try:
        return importlib.import_module(name)
    except ImportError:
        return None


lzfse = _installed("lzfse")
"""The package; None where there is none, as for Windows on ARM64."""

_MOST_MEMORY = 256 << 20  # bytes that an xz decoder may ask for
_ODD: tuple[type[Exception], ...] = (
    *(EOFError, ValueError, OSError, OverflowError, struct.error, zlib.error, lzma.LZMAError),
    *([lzfse.error] if lzfse is not None else []),
)


class ChunkError(SourceError):
    """A chunk that cannot be decoded to the size it must have."""


class Decoder(Struct, frozen=True):
    """A method by which chunks are compressed."""

    name: str
    decode: Callable[[bytes, int, int], bytes]
    """(stored bytes, size, window) to bytes; raises ValueError and the like for what is damaged, and may stop one byte
    beyond the size. The window, in bytes, is that of methods that have one: others are given 0."""


def decode_chunk(decoder: Decoder, data: bytes, size: int, window: int = 0) -> bytes:
    """Return the `size` bytes that `data` stands for. Raises ChunkError."""
    try:
        decoded = decoder.decode(data, size, window)
    except _ODD as error:
        words = str(error) or "it does not begin as such data does"
        raise ChunkError(f"{decoder.name}: {words.rstrip('.')}.") from error
    if len(decoded) != size:
        more = "more than " if len(decoded) > size else ""
        raise ChunkError(f"{decoder.name}: {more}{min(len(decoded), size):,} bytes come out, {size:,} have to.")
    return decoded


def _to_end_mark(new: Callable[[], Any], *, alone: bool = False) -> Callable[[bytes, int, int], bytes]:
    """Return what decodes by one of Python's own decoders, whose sum behind the bytes is looked at last.

    `alone`: nothing may lie behind its stream.
    """

    def decode(data: bytes, size: int, _window: int) -> bytes:
        decoder = new()
        decoded: bytes = decoder.decompress(data, size + 1)
        if not decoder.eof and len(decoded) <= size and not getattr(decoder, "needs_input", False):
            decoded += decoder.decompress(getattr(decoder, "unconsumed_tail", b""), 1)
        if not decoder.eof and len(decoded) <= size:
            raise EOFError("it ends before its end mark")
        if alone and decoder.unused_data:
            raise ValueError(f"{len(decoder.unused_data):,} unrelated bytes follow it")
        return decoded

    return decode


# -- LZFSE and LZVN --------------------------------------------------------------------------------------------------

_END = b"bvx$"
_HEADS = {b"bvx-": 8, b"bvxn": 12, b"bvx1": 772, b"bvx2": 32}
"""Bytes of the fixed part of each block's head, by its magic."""


def _lzfse(data: bytes, size: int, _window: int) -> bytes:
    if _lzfse_size(data, size) != size:
        raise ValueError(f"its blocks do not make {size:,} bytes")
    return bytes(_package("LZFSE").decompress(data))


def _package(method: str) -> ModuleType:
    """Return the package that decodes a method. Raises ChunkError where it is not installed."""
    if lzfse is None:
        raise ChunkError(
            f"{method} is not decoded on this computer: the package lzfse is not installed.",
            advice="There is none for Windows on ARM64: use another computer for this image.",
        )
    return lzfse


def _lzfse_size(data: bytes, most: int) -> int:
    """Return what comes out of a stream by the heads of its blocks, or a number beyond `most`.

    The package makes its buffer as large as the stream wants: this is asked before.
    """
    at = total = 0
    while (magic := data[at : at + 4]) != _END:
        if magic not in _HEADS or at + _HEADS[magic] > len(data) or total > most:
            raise ValueError("a block header is invalid")
        raw, payload = struct.unpack_from("<2I", data, at + 4)
        if magic == b"bvx-":
            length = 8 + raw
        elif magic == b"bvx2":
            literals, matches, head = struct.unpack_from("<3Q", data, at + 8)
            length = (head & 0xFFFF_FFFF) + (literals >> 20 & 0xFFFFF) + (matches >> 40 & 0xFFFFF)
        else:
            length = _HEADS[magic] + payload
        if length <= 0:
            raise ValueError("a block header is invalid")
        total, at = total + raw, at + length
    return total


def _lzvn(data: bytes, size: int, _window: int) -> bytes:
    """LZVN without a head, as HFS+ keeps it: given one, it is a block that LZFSE has."""
    return bytes(_package("LZVN").decompress(b"bvxn" + struct.pack("<2I", size, len(data)) + data + _END))


# -- ADC -------------------------------------------------------------------------------------------------------------


def _adc(data: bytes, size: int, _window: int) -> bytes:
    """Apple Data Compression: literal runs, and copies of two and three bytes from what came out before."""
    out = bytearray()
    at = 0
    while at < len(data) and len(out) < size:
        first = data[at]
        if first & 0x80:
            count = (first & 0x7F) + 1
            out += data[at + 1 : at + 1 + count]
            at += 1 + count
            continue
        if first & 0x40:
            count, back = (first & 0x3F) + 4, int.from_bytes(data[at + 1 : at + 3], "big") + 1
            at += 3
        else:
            count, back = (first >> 2 & 0x0F) + 3, (first & 3) << 8 | int.from_bytes(data[at + 1 : at + 2], "big")
            back += 1
            at += 2
        if at > len(data) or back > len(out):
            raise ValueError("a copy reaches before the first byte")
        piece = bytes(out[-back:][:count])
        out += (piece * -(-count // len(piece)))[:count]
    if at > len(data):
        raise EOFError("it ends within a run")
    return bytes(out)


def _new_xz() -> Any:
    return lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=_MOST_MEMORY)


WHOLE_XZ = Decoder("xz", _to_end_mark(_new_xz, alone=True))
"""Of what has one stream to a chunk, and nothing else in it."""
METHODS: Mapping[str, Decoder] = {
    decoder.name: decoder
    for decoder in (
        Decoder("zlib", _to_end_mark(zlib.decompressobj)),
        Decoder("bzip2", _to_end_mark(bz2.BZ2Decompressor)),
        Decoder("xz", _to_end_mark(lambda: lzma.LZMADecompressor(memlimit=_MOST_MEMORY))),
        Decoder("LZFSE", _lzfse),
        Decoder("LZVN", _lzvn),
        Decoder("ADC", _adc),
    )
}
"""Of disk images and compressed files of HFS+."""
