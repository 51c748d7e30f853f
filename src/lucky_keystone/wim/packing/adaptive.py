"""Huffman codes of LZMS: made again and again from how often each symbol came."""

from __future__ import annotations

from collections.abc import Sequence

from .huffman import HuffmanCode
from .ranges import BackBits

LONGEST_CODE = 15


class AdaptiveCode:
    """A code that is rebuilt at regular intervals."""

    def __init__(self, count: int, rebuilt_after: int) -> None:
        """`count` symbols, each as likely as the others at first."""
        self._counts = [1] * count
        self._rebuilt_after = rebuilt_after
        self._rebuild()

    def read(self, bits: BackBits) -> int:
        """Take a symbol from `bits`."""
        if not self._left:
            self._rebuild()
        symbol = self._code.read(bits)
        self._counts[symbol] += 1
        self._left -= 1
        return symbol

    def _rebuild(self) -> None:
        self._code = HuffmanCode(code_lengths(self._counts), LONGEST_CODE, "code")
        self._counts = [(count >> 1) + 1 for count in self._counts]
        self._left = self._rebuilt_after


def code_lengths(counts: Sequence[int]) -> list[int]:
    """Return the lengths of a Huffman code for symbols that came so often; none is longer than 15 bits.

    Of equally frequent ones the lower symbols get the longer codes; where a symbol and a joined pair come equally
    often, the symbol is joined first.
    """
    if len(counts) < 2:
        return [1] * len(counts)
    order = sorted(range(len(counts)), key=lambda symbol: (counts[symbol], symbol))
    leaves = [counts[symbol] for symbol in order]
    pairs: list[int] = []
    parents_of_leaves, parents_of_pairs = [0] * len(leaves), [0] * (len(leaves) - 1)
    leaf = pair = 0
    for number in range(len(leaves) - 1):
        total = 0
        for _ in range(2):
            if leaf < len(leaves) and (pair >= len(pairs) or leaves[leaf] <= pairs[pair]):
                total += leaves[leaf]
                parents_of_leaves[leaf] = number
                leaf += 1
            else:
                total += pairs[pair]
                parents_of_pairs[pair] = number
                pair += 1
        pairs.append(total)
    depths = [0] * len(pairs)
    for number in range(len(pairs) - 2, -1, -1):
        depths[number] = depths[parents_of_pairs[number]] + 1
    of_length = [0] * (LONGEST_CODE + 2)
    for parent in parents_of_leaves:
        of_length[min(depths[parent] + 1, LONGEST_CODE + 1)] += 1
    _shorten(of_length)
    lengths = [0] * len(counts)
    place = 0
    for length in range(LONGEST_CODE, 0, -1):
        for _ in range(of_length[length]):
            lengths[order[place]] = length
            place += 1
    return lengths


def _shorten(of_length: list[int]) -> None:
    """Bring codes that are too long to the longest that is allowed, and make room for them. Not proven here."""
    of_length[LONGEST_CODE] += of_length[LONGEST_CODE + 1]
    of_length[LONGEST_CODE + 1] = 0
    room = sum(number << (LONGEST_CODE - length) for length, number in enumerate(of_length) if length <= LONGEST_CODE)
    while room > 1 << LONGEST_CODE:
        longest = next(length for length in range(LONGEST_CODE - 1, 0, -1) if of_length[length])
        of_length[longest] -= 1
        of_length[longest + 1] += 2
        of_length[LONGEST_CODE] -= 1
        room -= 1
