"""XPRESS with Huffman codes ([MS-XCA] 2.1, 2.2: LZ77+Huffman), one chunk at a time."""

from __future__ import annotations

from .huffman import HuffmanCode, PackingError
from .matches import copy_match

_SYMBOLS = 512
_LENGTHS = _SYMBOLS // 2
_LONGEST_CODE = 15
_LEAST_MATCH = 3


class _Words:
    """Two words are read ahead; further bytes of a length lie behind them ([MS-XCA] 2.2.4)."""

    def __init__(self, data: bytes) -> None:
        self.data, self.position = data, _LENGTHS
        self._value = self._word() << 16 | self._word()
        self._spare = 16

    def peek(self, count: int) -> int:
        return self._value >> (32 - count)

    def take(self, count: int) -> int:
        value = self.peek(count) if count else 0
        self._value = self._value << count & 0xFFFFFFFF
        self._spare -= count
        if self._spare < 0:  # more than 16 bits are used: not at exactly 16
            self._value |= self._word() << -self._spare
            self._spare += 16
        return value

    def number(self, size: int) -> int:
        """Return a number of `size` bytes from behind the words that were read ahead."""
        value = self.data[self.position : self.position + size]
        if len(value) < size:
            raise PackingError("it ends within a length")
        self.position += size
        return int.from_bytes(value, "little")

    def _word(self) -> int:
        if self.position > len(self.data) + 2:  # two words ahead may lie behind the end
            raise PackingError("it ends early")
        value = int.from_bytes(self.data[self.position : self.position + 2], "little")
        self.position += 2
        return value


def unpack(data: bytes, size: int) -> bytes:
    """Return the `size` bytes that a chunk holds. Raises PackingError for one that is damaged."""
    if len(data) < _LENGTHS:
        raise PackingError("it ends within its code lengths")
    lengths = [length for pair in data[:_LENGTHS] for length in (pair & 15, pair >> 4)]
    code = HuffmanCode(lengths, _LONGEST_CODE, "table of code lengths")
    words, out = _Words(data), bytearray()
    while len(out) < size:
        symbol = code.read(words)
        if symbol < 256:
            out.append(symbol)
            continue
        offset_bits, length = divmod(symbol - 256, 16)
        if length == 15:
            length += words.number(1)
            if length == 15 + 255:
                length = words.number(2)
        offset = (1 << offset_bits) + words.take(offset_bits)
        copy_match(out, offset, length + _LEAST_MATCH, size)
    return bytes(out)
