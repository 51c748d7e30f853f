"""Copies of what was unpacked before."""

from __future__ import annotations

from .huffman import PackingError


def copy_match(out: bytearray, offset: int, length: int, end: int) -> None:
    """Append `length` bytes from `offset` before the end of `out`; raise PackingError outside of it or beyond `end`."""
    if not 0 < offset <= len(out):
        raise PackingError("a copy reaches before its first byte")
    if len(out) + length > end:
        raise PackingError("a copy reaches beyond its end")
    start = len(out) - offset
    while length:  # what is copied may have been made by this very copy
        piece = out[start : start + length]
        out += piece
        length -= len(piece)
