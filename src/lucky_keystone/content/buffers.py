"""Buffers for streaming."""

from __future__ import annotations

import mmap

from .contents import BLOCK


def aligned_buffer() -> memoryview:
    """Return a buffer of one block that starts at a page of memory, as writing past the system's cache wants it."""
    return memoryview(mmap.mmap(-1, BLOCK))
