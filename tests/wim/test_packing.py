"""Unpacking chunks: awkward packers, independent unpackers, and hostile bytes; in both forms, which always agree."""

from __future__ import annotations

import io
import random

import numpy as np
import pyfwnt
import pytest
from dissect.util.compression import lzxpress_huffman

from lucky_keystone.wim.packing import fast, lzms, lzx, xpress
from lucky_keystone.wim.packing.huffman import PackingError

from ..helpers.amount import part_of
from ..helpers.lzms_packer import items, pack_lzms, translate_x86
from ..helpers.packers import pack_lzx, pack_xpress, tokens, translate_calls

PLAIN = {"xpress": lambda data, size, _: xpress.unpack(data, size), "lzx": lzx.unpack, "lzms": lzms.unpack}
FAST = {"xpress": fast.XPRESS, "lzx": fast.LZX, "lzms": fast.LZMS}
SIZES = (1, 2, 5, 6, 100, 4096, 8191, 32768)
ROUNDS = part_of(40)


def unpack(method: str, data: bytes, size: int, window: int = 32768) -> bytes:
    """Unpack a chunk in both forms; raise what the plain one says."""
    if len(data) == size:  # a run takes this for a chunk that did not shrink
        return PLAIN[method](data, size, window)
    found = fast.unpack_run(FAST[method], data, np.array([0, len(data)], np.uint64), window, size)
    assert found is not None, "the fast form is installed wherever tests are run"
    try:
        plain = PLAIN[method](data, size, window)
    except PackingError:
        assert found == (0, b"")
        raise
    assert found == (1, plain)
    return plain


@pytest.mark.parametrize("size", SIZES)
def test_xpress(size: int) -> None:
    """Against what was packed, and against two unpackers of other make."""
    for seed in range(ROUNDS):
        chance = random.Random(f"xpress {size} {seed}")
        parse, data = tokens(chance, size, longest=65538)
        packed = pack_xpress(parse, chance)
        assert unpack("xpress", packed, size, max(size, 2)) == data
        assert pyfwnt.lzxpress_huffman_decompress(packed, size) == data
        other = lzxpress_huffman.decompress(io.BytesIO(packed))
        if len(other) >= size:  # this one loses the end of small chunks
            assert other[:size] == data


@pytest.mark.parametrize("window", [32768, 65536, 1 << 18])
@pytest.mark.parametrize("size", SIZES)
def test_lzx(size: int, window: int) -> None:
    for seed in range(ROUNDS if window == 32768 else 8):
        chance = random.Random(f"lzx {size} {window} {seed}")
        parse, translated = tokens(chance, min(size, window), longest=257, reach=window - 3)
        packed = pack_lzx(parse, translated, chance, window)
        assert unpack("lzx", packed, len(translated), window) == without_calls(translated)


def without_calls(translated: bytes) -> bytes:
    """Make the targets of x86 calls relative again, in words of this test's own ([MS-PATCH] 2, E8 call translation)."""
    out, at = bytearray(translated), translated.find(b"\xe8")
    while 0 <= at < len(out) - 10:
        absolute = int.from_bytes(out[at + 1 : at + 5], "little", signed=True)
        if -at <= absolute < 12_000_000:
            relative = absolute - at if absolute >= 0 else absolute + 12_000_000
            out[at + 1 : at + 5] = relative.to_bytes(4, "little", signed=True)
        at = translated.find(b"\xe8", at + 5)
    return bytes(out)


@pytest.mark.parametrize("size", (*SIZES, 17, 18))
def test_lzms(size: int) -> None:
    """Sums, repeats, long copies; the code of real programs would look like the alphabet with calls and loads.

    That the packer itself packs right is judged in `test_editions.py`, by an archiver of other make.
    """
    for seed in range(part_of(20)):
        chance = random.Random(f"lzms {size} {seed}")
        parse, translated = items(chance, size)
        unpacked = unpack("lzms", pack_lzms(parse, size, chance), size)
        assert translate_x86(unpacked) == translated


@pytest.mark.parametrize("seed", range(20))
def test_calls(seed: int) -> None:
    """A translation undone is what it was made from."""
    chance = random.Random(seed)
    data = bytearray(chance.choice(b"\xe8\0\x01\xff") for _ in range(2000))
    for _ in range(50):
        at = chance.randrange(1990)
        data[at : at + 5] = b"\xe8" + chance.randint(-2000, 12_000_000).to_bytes(4, "little", signed=True)
    translated = bytearray(translate_calls(bytes(data)))
    lzx._undo_calls(translated)
    assert translated == data


@pytest.mark.parametrize("method", ["xpress", "lzx", "lzms"])
def test_hostile_chunks(method: str) -> None:
    """Damaged and random chunks end in bytes of the right size or in a clear error."""
    chance = random.Random(method)
    failed = 0
    for _ in range(400):
        packed, size = made(method, chance, chance.choice([50, 600]))
        for _ in range(chance.randint(1, 4)):
            packed[chance.randrange(len(packed))] = chance.randrange(256)
        if chance.random() < 0.3:
            del packed[chance.randrange(len(packed)) :]
        try:
            assert len(unpack(method, bytes(packed), size)) == size
        except PackingError as error:
            failed += 1
            assert str(error)
    assert failed > 40


def made(method: str, chance: random.Random, size: int) -> tuple[bytearray, int]:
    """Return a sound chunk, and its size when unpacked."""
    if method == "lzms":
        return bytearray(pack_lzms(items(chance, size)[0], size, chance)), size
    parse, data = tokens(chance, size, longest=257)
    return bytearray(pack_xpress(parse, chance) if method == "xpress" else pack_lzx(parse, data, chance)), len(data)


def test_another_unpacker_agrees_on_blocks_of_even_sizes() -> None:
    """The other one forgets the pad byte of an uncompressed block, so those of odd sizes are left out."""
    agreed = 0
    for seed in range(200):
        chance = random.Random(f"other {seed}")
        parse, data = tokens(chance, 2000, longest=257)
        if b"\xe8" in data:
            continue
        packed = pack_lzx(parse, data, chance)
        try:
            other = pyfwnt.lzx_decompress(packed, 32768)
        except OSError:
            continue
        agreed += other[:2000] == unpack("lzx", packed, 2000) == data
    assert agreed > 50
