"""Marks: bytes that say where they were written, so that what is read back tells where it came from."""

from __future__ import annotations

import hashlib
import struct

from ..common.later import np

CHUNK = 4096
"""Bytes that carry one address: a whole sector of either size."""

_HEAD = struct.Struct("<8s16sQ")
_MAGIC = b"LKEYMARK"


class Marker:
    """Makes and recognises the marks of one run; `nonce` (16 bytes) keeps an earlier run's apart."""

    def __init__(self, nonce: bytes) -> None:
        self.nonce = nonce
        seed = int.from_bytes(hashlib.sha256(nonce).digest()[:8], "big")
        # No simple pattern: a drive that compresses, or a fake that answers with zeros or ones, must not pass.
        self._noise = np.random.default_rng(seed).integers(0, 256, CHUNK, np.uint8)

    def fill(self, offset: int, view: memoryview) -> None:
        """Fill whole chunks of `view` with the marks of byte `offset` and up."""
        chunks = np.frombuffer(view, np.uint8).reshape(-1, CHUNK)
        count = len(chunks)
        addresses = np.arange(offset, offset + count * CHUNK, CHUNK, dtype="<u8")
        chunks[:] = self._noise
        words = chunks.view("<u8")
        words ^= (addresses * np.uint64(0x9E3779B97F4A7C15))[:, None]
        heads = np.frombuffer(_HEAD.pack(_MAGIC, self.nonce, 0), np.uint8)
        chunks[:, : _HEAD.size] = heads
        words[:, 3] = addresses

    def made(self, offset: int, size: int) -> bytes:
        """Return the marks of `size` bytes (whole chunks) from byte `offset`."""
        data = bytearray(size)
        self.fill(offset, memoryview(data))
        return bytes(data)

    def address_in(self, data: bytes | memoryview) -> int | None:
        """Return the byte at which the chunk that starts `data` was written; None when it is not a mark of this run."""
        if len(data) < _HEAD.size:
            return None
        magic, nonce, address = _HEAD.unpack_from(data)
        return int(address) if (magic, nonce) == (_MAGIC, self.nonce) else None
