"""Buffers for streaming, and the hashes of what is in them."""

from __future__ import annotations

import mmap
from functools import lru_cache

from blake3 import blake3

from ..common.later import np
from .contents import BLOCK

_FRONT = 64
"""Bytes that are looked at first: hardly anything begins with as many zeros and is not zero."""


def aligned_buffer() -> memoryview:
    """Return a buffer of one block that starts at a page of memory, as writing past the system's cache wants it."""
    return memoryview(mmap.mmap(-1, BLOCK))


def is_zero(view: memoryview) -> bool:
    """Tell whether there are only zeros, some times faster than a hash is made."""
    if any(view[:_FRONT]):
        return False
    whole = len(view) // 8 * 8
    return not np.frombuffer(view[:whole], np.uint64).any() and not any(view[whole:])


def digest_of(view: memoryview) -> bytes:
    """Return the BLAKE3 hash; that of zeros is known."""
    return digest_of_zeros(len(view)) if is_zero(view) else blake3(view).digest()


@lru_cache(64)
def digest_of_zeros(size: int) -> bytes:
    """Return the BLAKE3 hash of `size` zero bytes."""
    return blake3(bytes(size)).digest()
