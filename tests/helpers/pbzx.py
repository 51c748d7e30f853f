"""Packs payloads in chunks, for tests."""

from __future__ import annotations

import lzma
import random
import struct
from collections.abc import Mapping


def packed_pbzx(data: bytes, chunk: int, chance: random.Random) -> bytes:
    """Pack in chunks; some lie there as they are although xz would make them smaller."""
    made = b"pbzx" + struct.pack(">Q", chunk)
    for start in range(0, len(data), chunk):
        piece = data[start : start + chunk]
        stored = lzma.compress(piece, preset=0)
        if len(stored) == len(piece) or chance.random() < 0.3:
            stored = piece
        made += struct.pack(">QQ", len(piece), len(stored)) + stored
    return made


def packed_cpio(files: Mapping[str, bytes]) -> bytes:
    """Return an archive of plain files (POSIX.1-2001 "pax", "cpio Interchange Format")."""
    made = b""
    for number, (name, data) in enumerate([*files.items(), ("TRAILER!!!", b"")], 1):
        fields = (
            f"{1:06o}{number:06o}{0o100644:06o}{0:06o}{0:06o}{1:06o}{0:06o}{0:011o}{len(name) + 1:06o}{len(data):011o}"
        )
        made += f"070707{fields}{name}\0".encode() + data
    return made
