"""Compressed images for tests: several members, streams and frames in each."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import zipfile
from collections.abc import Callable

import zstandard

MIB = 1 << 20


def zipped(data: bytes) -> bytes:
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("read me.txt", "Tidewell Ferry Company, firmware of the ticket printers")
        archive.writestr("printer.img", data)
    return stream.getvalue()


PACKINGS: dict[str, Callable[[bytes], bytes]] = {
    "": lambda data: data,
    "gz": lambda data: gzip.compress(data[:99_999], 1) + gzip.compress(data[99_999:], 1),
    "bz2": lambda data: bz2.compress(data, 1),
    "xz": lambda data: lzma.compress(data[:MIB], preset=0) + bytes(8) + lzma.compress(data[MIB:], preset=0),
    "zst": lambda data: (
        b"\x50\x2a\x4d\x18\x04\0\0\0ferr" + zstandard.ZstdCompressor(write_checksum=True).compress(data)
    ),
    "zip": zipped,
}
