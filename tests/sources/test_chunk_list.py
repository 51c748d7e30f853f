"""Chunk lists by their published form; what is changed anywhere in an image is found, piece by piece."""

from __future__ import annotations

import hashlib
import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucky_keystone.common.errors import SourceError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import Literal
from lucky_keystone.sources.chunk_list import compare, read_chunk_list


def listed(data: bytes, piece: int, *, count: int | None = None, signature: bytes = b"S" * 256) -> bytes:
    """Return a list as the kernel's header describes it."""
    pieces = [data[at : at + piece] for at in range(0, len(data), piece)]
    sums = b"".join(struct.pack("<I", len(each)) + hashlib.sha256(each).digest() for each in pieces)
    number = len(pieces) if count is None else count
    return struct.pack("<4sI4B3Q", b"CNKL", 36, 1, 1, 2, 0, number, 36, 36 + len(sums)) + sums + signature


@given(st.binary(min_size=1, max_size=5000), st.integers(1, 2000), st.integers(0, 1 << 20), st.integers(1, 255))
def test_a_changed_byte_is_found_in_its_piece(data: bytes, piece: int, where: int, change: int) -> None:
    found = read_chunk_list(Literal(listed(data, piece)), "a.chunklist")
    assert found is not None
    compare(Literal(data), found, "a.dmg", silent)
    at = where % len(data)
    changed = data[:at] + bytes((data[at] ^ change,)) + data[at + 1 :]
    start = at // piece * piece
    end = min(start + piece, len(data)) - 1
    with pytest.raises(SourceError, match=f"bytes {start:,} to {end:,} have another SHA-256"):
        compare(Literal(changed), found, "a.dmg", silent)
    with pytest.raises(SourceError, match="is of an image of"):
        compare(Literal(data + b"x"), found, "a.dmg", silent)


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (listed(b"x" * 50, 10)[:30], "within its head"),
        (listed(b"x" * 50, 10, count=6, signature=b""), "lie outside"),
        (listed(b"x" * 50, 10, count=1 << 40), "lie outside"),
        (listed(b"x" * 50, 10).replace(struct.pack("<I", 10), bytes(4)), "has no bytes"),
    ],
)
def test_a_damaged_list_is_refused(data: bytes, words: str) -> None:
    with pytest.raises(SourceError, match=words):
        read_chunk_list(Literal(data), "a.chunklist")


@pytest.mark.parametrize("data", [b"", b"SUMS" + bytes(80), listed(b"x", 1)[:8] + b"\2" + listed(b"x", 1)[9:]])
def test_another_form_is_none(data: bytes) -> None:
    assert read_chunk_list(Literal(data), "a.chunklist") is None
