"""Payloads in chunks: read in any order, and refused where a length or a sum is wrong."""

from __future__ import annotations

import lzma
import random
import struct
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucky_keystone.common.errors import SourceError
from lucky_keystone.content.contents import seekable, stream
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.sources.pbzx import PbzxFile

from ..helpers.pbzx import packed_pbzx
from ..helpers.trees import file

DATA = bytes(70_000) + random.Random(5).randbytes(50_000) + b"Tidewell " * 9_000


def opened(packed: bytes) -> FileRange:
    made = PbzxFile(seekable(file("Payload", packed).content), "Studio.pkg: Payload")
    return FileRange(made, 0, made.size)


@given(st.integers(1, 30_000), st.integers(0, 200_000), st.integers(0, 1 << 30))
def test_what_was_packed_comes_out_in_any_order(chunk: int, size: int, seed: int) -> None:
    chance = random.Random(seed)
    data = (DATA * 2)[: max(size, 1)][-40 * chunk :]
    content = opened(packed_pbzx(data, chunk, chance))
    assert content.size == len(data)
    assert b"".join(bytes(piece) for piece in stream(content)) == data
    for _ in range(5):
        at = chance.randrange(len(data))
        count = chance.randrange(len(data) - at + 1)
        assert content.read_at(at, count) == data[at : at + count]


def _chunk(size: int, stored: bytes, length: int | None = None) -> bytes:
    return struct.pack(">QQ", size, len(stored) if length is None else length) + stored


XZ = lzma.compress(DATA[:5000])
HEAD = b"pbzx" + struct.pack(">Q", 5000)
FAULTS: dict[str, tuple[bytes, str]] = {
    "cut in the head": (HEAD[:11], "too short for its head"),
    "chunks of no bytes": (b"pbzx" + bytes(8), "0 bytes, which is invalid"),
    "chunks of 2^56 bytes": (b"pbzx" + b"\1" + bytes(7), "which is invalid"),
    "cut in a chunk's head": (HEAD + _chunk(5000, XZ) + bytes(9), "ends within the head of chunk 2"),
    "cut in a chunk": (HEAD + _chunk(5000, XZ)[:-1], "chunk 1 has"),
    "a chunk larger than they are": (HEAD + _chunk(5001, XZ), "5,001 bytes, of 5,000 at most"),
    "a chunk of nothing": (HEAD + _chunk(0, b"", 0), "0 bytes, of 5,000 at most"),
    "a chunk that claims 2^60 bytes": (HEAD + _chunk(5000, XZ, 1 << 60), "left"),
    "a short chunk in the middle": (
        HEAD + _chunk(4999, DATA[:4999]) + _chunk(5000, XZ),
        "is short, and is not the",
    ),
    "a sum that is wrong": (HEAD + _chunk(5000, XZ[:-30] + b"\xff" + XZ[-29:]), "cannot be decoded"),
    "no xz at all": (HEAD + _chunk(5000, b"no stream"), "cannot be decoded"),
    "too few bytes come out": (HEAD + _chunk(5000, lzma.compress(DATA[:4999])), "4,999 bytes come out"),
    "too many bytes come out": (HEAD + _chunk(5000, lzma.compress(DATA[:5001])), "more than 5,000 bytes come out"),
    "bytes behind the stream": (HEAD + _chunk(5000, XZ + b"more"), "4 unrelated bytes follow it"),
    "two streams in a chunk": (HEAD + _chunk(5000, lzma.compress(DATA[:2500]) * 2), "unrelated bytes follow it"),
}


@pytest.mark.parametrize("name", FAULTS)
def test_a_payload_that_does_not_fit_is_refused(name: str) -> None:
    packed, words = FAULTS[name]
    with pytest.raises(SourceError, match=r"Studio.pkg: Payload \(pbzx\): ") as refused:
        content = opened(packed)
        content.read_at(0, content.size)
    assert words in refused.value.message
    assert "download it again" in (refused.value.advice or "")


@pytest.mark.parametrize("change", [lambda data, _: data[:-1], lambda data, at: data[:at] + b"\xff" + data[at + 1 :]])
def test_hostile_payloads_end_in_bytes_or_one_error(change: Callable[[bytes, int], bytes]) -> None:
    chance = random.Random(9)
    packed = packed_pbzx(DATA, 9_000, chance)
    for _ in range(300):
        try:
            content = opened(change(packed[: chance.randrange(12, len(packed))], chance.randrange(4, 400)))
            content.read_at(0, min(content.size, 1 << 20))
        except SourceError as error:
            assert error.message
