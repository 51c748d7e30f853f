"""LZX as install images have it: each chunk by itself ([MS-PATCH] 2 has the blocks; the differences are named)."""

from __future__ import annotations

from .huffman import Bits, HuffmanCode, PackingError
from .matches import copy_match

_LITERALS = 256
_LENGTH_SYMBOLS = 249
_LONGEST_CODE = 16
_LEAST_MATCH = 2
_USUAL_BLOCK = 32768
_VERBATIM, _ALIGNED, _UNCOMPRESSED = 1, 2, 3
_CALL_SIZE = 12_000_000
"""What calls are translated with, whatever the file's size."""
_CALL_END = 10
"""A chunk's last bytes, in which no call is translated."""
_SLOTS = {15: 30, 16: 32, 17: 34, 18: 36, 19: 38, 20: 42, 21: 50}
"""Position slots by the window's size in bits; the window is the chunk's size."""


def _slots() -> tuple[tuple[int, int], ...]:
    """Return first offset and number of further bits of each position slot."""
    made, base = [], 0
    for slot in range(max(_SLOTS.values())):
        bits = 0 if slot < 4 else min((slot >> 1) - 1, 17)
        made.append((base, bits))
        base += 1 << bits
    return tuple(made)


_POSITIONS = _slots()


def unpack(data: bytes, size: int, window: int = _USUAL_BLOCK) -> bytes:
    """Return the `size` bytes that a chunk holds; `window` is the image's chunk size. Raises PackingError."""
    return _Chunk(data, size, max(window - 1, 1).bit_length()).unpacked()


class _Chunk:
    def __init__(self, data: bytes, size: int, window_bits: int) -> None:
        if window_bits > max(_SLOTS):
            raise PackingError("its window is larger than the format has")
        self._bits, self._size, self._out = Bits(data), size, bytearray()
        self._window_bits = window_bits
        self._recent = [1, 1, 1]
        self._main_lengths = [0] * (_LITERALS + 8 * _SLOTS[max(window_bits, min(_SLOTS))])
        self._length_lengths = [0] * _LENGTH_SYMBOLS

    def unpacked(self) -> bytes:
        while len(self._out) < self._size:
            kind = self._bits.take(3)
            end = len(self._out) + self._block_size()
            if end > self._size or end == len(self._out):
                raise PackingError("a block has a size that does not fit")
            if kind == _UNCOMPRESSED:
                self._copy_block(end)
            elif kind in (_VERBATIM, _ALIGNED):
                self._decode_block(end, is_aligned=kind == _ALIGNED)
            else:
                raise PackingError(f"a block is of the unknown kind {kind}")
        _undo_calls(self._out)
        return bytes(self._out)

    def _block_size(self) -> int:
        if self._bits.take(1):
            return _USUAL_BLOCK
        size = self._bits.take(16)
        return size << 8 | self._bits.take(8) if self._window_bits >= 16 else size

    def _copy_block(self, end: int) -> None:
        """An uncompressed block: aligned to a word, three recent offsets, the bytes, a pad byte where they are odd."""
        self._bits.align()
        data, at = self._bits.data, self._bits.position
        size = end - len(self._out)
        if at + 12 + size > len(data):
            raise PackingError("it ends within an uncompressed block")
        self._recent = [int.from_bytes(data[at + place : at + place + 4], "little") for place in (0, 4, 8)]
        self._out += data[at + 12 : at + 12 + size]
        self._bits.position = at + 12 + size + size % 2

    def _decode_block(self, end: int, *, is_aligned: bool) -> None:
        bits, out = self._bits, self._out
        aligned = HuffmanCode([bits.take(3) for _ in range(8)], 7, "aligned tree") if is_aligned else None
        self._read_lengths(self._main_lengths, 0, _LITERALS)
        self._read_lengths(self._main_lengths, _LITERALS, len(self._main_lengths))
        self._read_lengths(self._length_lengths, 0, _LENGTH_SYMBOLS)
        main = HuffmanCode(self._main_lengths, _LONGEST_CODE, "main tree")
        lengths = HuffmanCode(self._length_lengths, _LONGEST_CODE, "length tree")
        while len(out) < end:
            symbol = main.read(bits)
            if symbol < _LITERALS:
                out.append(symbol)
                continue
            slot, length = divmod(symbol - _LITERALS, 8)
            if length == 7:
                length += lengths.read(bits)
            offset = self._offset(slot, aligned)
            copy_match(out, offset, length + _LEAST_MATCH, end)

    def _offset(self, slot: int, aligned: HuffmanCode | None) -> int:
        """Return a match's offset; a repeated one changes places with the most recent."""
        recent = self._recent
        if slot < 3:
            recent[0], recent[slot] = recent[slot], recent[0]
            return recent[0]
        base, count = _POSITIONS[slot]
        if aligned is not None and count >= 3:
            further = self._bits.take(count - 3) << 3 if count > 3 else 0
            further += aligned.read(self._bits)
        else:
            further = self._long(count)
        self._recent = [base + further - 2, recent[0], recent[1]]
        return self._recent[0]

    def _long(self, count: int) -> int:
        return self._bits.take(count) if count <= 16 else self._bits.take(count - 16) << 16 | self._bits.take(16)

    def _read_lengths(self, lengths: list[int], start: int, end: int) -> None:
        """Read a tree's code lengths as differences from those of the block before, modulo 17."""
        bits = self._bits
        tree = HuffmanCode([bits.take(4) for _ in range(20)], 15, "pre-tree")
        at = start
        while at < end:
            symbol = tree.read(bits)
            if symbol < 17:
                lengths[at] = (lengths[at] - symbol) % 17
                at += 1
                continue
            if symbol == 19:
                run = 4 + bits.take(1)
                difference = tree.read(bits)
                if difference > 16:
                    raise PackingError("a run of code lengths repeats a run")
                value = (lengths[at] - difference) % 17
            else:
                run, value = (4 + bits.take(4), 0) if symbol == 17 else (20 + bits.take(5), 0)
            if at + run > end:
                raise PackingError("a run of code lengths reaches beyond its tree")
            lengths[at : at + run] = [value] * run
            at += run


def _undo_calls(out: bytearray) -> None:
    """Undo the translation of x86 calls: their targets were made absolute, so that equal ones look alike."""
    at, end = 0, len(out) - _CALL_END
    while (at := out.find(b"\xe8", at, max(end, 0))) >= 0:
        target = int.from_bytes(out[at + 1 : at + 5], "little", signed=True)
        if -at <= target < _CALL_SIZE:
            target += -at if target >= 0 else _CALL_SIZE
            out[at + 1 : at + 5] = target.to_bytes(4, "little", signed=True)
        at += 5
