"""Sums of an image by blocks: a block is proven before anything is made of it."""

from __future__ import annotations

import hashlib

from msgspec import Struct

_SUM = 32


class BlockSums(Struct, frozen=True):
    """SHA-256 of each block of an image; the last one may be shorter."""

    block_size: int
    """Bytes."""
    sums: bytes
    """32 bytes a block."""

    @property
    def count(self) -> int:
        return len(self.sums) // _SUM

    def fits(self, size: int) -> bool:
        """Tell whether these are the sums of an image of this many bytes."""
        return len(self.sums) == _SUM * -(-size // self.block_size)

    def is_right(self, number: int, data: bytes | bytearray) -> bool:
        """Tell whether a block has the bytes that it is to have."""
        return hashlib.sha256(data).digest() == self.sums[_SUM * number : _SUM * (number + 1)]
