"""Packers for chunks of install images, made to be awkward: what is encoded is chosen at random, not for size.

They share nothing with the unpackers but the specification.
"""

from __future__ import annotations

import heapq
import random
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

Token = int | tuple[int, int]
"""A literal, or (offset, length) of a match."""


def tokens(chance: random.Random, size: int, *, longest: int, reach: int = 1 << 30) -> tuple[list[Token], bytes]:
    """Return a random parse and the bytes that it makes."""
    made: list[Token] = []
    out = bytearray()
    alphabet = chance.choice([b"\0", b"ab", bytes(range(256)), b"\xe8\xe8\0\0\1"])
    favourites = [1, 2, 3]
    while len(out) < size:
        if out and size - len(out) >= 3 and chance.random() < 0.5:
            offset = chance.choice([*favourites, chance.randint(1, len(out)), len(out)])
            offset = min(offset, len(out), reach)
            length = chance.choice([3, 4, 9, 10, 16, 17, 18, 33, 257, 273, 274, 600, 70_000, chance.randint(3, 300)])
            length = min(length, size - len(out), longest)
            favourites = [offset, *favourites[:2]]
            made.append((offset, length))
            for _ in range(length):
                out.append(out[-offset])
        else:
            made.append(chance.choice(alphabet))
            out.append(made[-1])  # type: ignore[arg-type]
    return made, bytes(out)


def code_lengths(used: Sequence[int], count: int, most: int, chance: random.Random) -> list[int]:
    """Return code lengths for the symbols used, of a complete code; now and then an unbalanced one."""
    symbols = Counter(used)
    lengths = [0] * count
    if not symbols:
        return lengths
    if len(symbols) == 1:
        lengths[next(iter(symbols))] = 1
        other = next(symbol for symbol in range(count) if symbol not in symbols)
        lengths[other] = 1
        return lengths
    weights = {symbol: chance.choice([1, number, number**3]) for symbol, number in symbols.items()}
    while True:
        heap = [(weight, number, [symbol]) for number, (symbol, weight) in enumerate(sorted(weights.items()))]
        heapq.heapify(heap)
        depth = Counter[int]()
        serial = len(heap)
        while len(heap) > 1:
            (one, _, left), (two, _, right) = heapq.heappop(heap), heapq.heappop(heap)
            depth.update(left + right)
            heapq.heappush(heap, (one + two, serial, left + right))
            serial += 1
        if max(depth.values()) <= most:
            break
        weights = {symbol: weight // 2 + 1 for symbol, weight in weights.items()}
    for symbol, length in depth.items():
        lengths[symbol] = length
    return lengths


def codes(lengths: Sequence[int]) -> dict[int, tuple[int, int]]:
    """Return {symbol: (code, bits)} of a canonical code."""
    made, code = {}, 0
    for length in range(1, 17):
        for symbol, own in enumerate(lengths):
            if own == length:
                made[symbol] = (code, length)
                code += 1
        code <<= 1
    return made


# -- XPRESS ----------------------------------------------------------------------------------------------------------


class _XpressBits:
    def __init__(self) -> None:
        self.out = bytearray()
        self._value = self._count = 0
        self._places = [self._reserve(), self._reserve()]

    def _reserve(self) -> int:
        self.out += b"\0\0"
        return len(self.out) - 2

    def put(self, value: int, count: int) -> None:
        self._value, self._count = self._value << count | value, self._count + count
        while self._count > 16:  # the 17th bit makes the reader fetch one word more
            self._count -= 16
            self._store(self._value >> self._count)
            self._value &= (1 << self._count) - 1
            self._places.append(self._reserve())

    def _store(self, word: int) -> None:
        place = self._places.pop(0)
        self.out[place : place + 2] = word.to_bytes(2, "little")

    def end(self) -> bytes:
        self._store(self._value << (16 - self._count))
        return bytes(self.out)


def pack_xpress(parse: Sequence[Token], chance: random.Random, *, marked: bool = False) -> bytes:
    """Encode a parse; the mark of the end is written when `marked`, else now and then."""
    symbols: list[tuple[int, int, int]] = []  # symbol, offset, length
    for token in parse:
        if isinstance(token, int):
            symbols.append((token, 0, 0))
        else:
            offset, length = token
            bits = offset.bit_length() - 1
            symbols.append((256 + 16 * bits + min(length - 3, 15), offset, length))
    if marked or chance.random() < 0.5:
        symbols.append((256, -1, 0))
    lengths = code_lengths([symbol for symbol, _, _ in symbols], 512, 15, chance)
    table, bits_out = codes(lengths), _XpressBits()
    for symbol, offset, length in symbols:
        bits_out.put(*table[symbol])
        if offset <= 0:
            continue
        if length - 3 >= 15:
            if length - 3 - 15 < 255:
                bits_out.out.append(length - 3 - 15)
            else:
                bits_out.out += b"\xff" + (length - 3).to_bytes(2, "little")
        count = offset.bit_length() - 1
        bits_out.put(offset - (1 << count), count)
    head = bytes(lengths[2 * i] | lengths[2 * i + 1] << 4 for i in range(256))
    return head + bits_out.end()


# -- LZX -------------------------------------------------------------------------------------------------------------


@dataclass
class _LzxBits:
    out: bytearray = field(default_factory=bytearray)
    value: int = 0
    count: int = 0

    def put(self, value: int, count: int) -> None:
        self.value, self.count = self.value << count | value, self.count + count
        while self.count >= 16:
            self.count -= 16
            self.out += (self.value >> self.count).to_bytes(2, "little")
            self.value &= (1 << self.count) - 1

    def align(self) -> None:
        """1 to 16 bits, to the next word."""
        self.put(0, 16 - self.count)


def pack_lzx(
    parse: Sequence[Token],
    whole: bytes,
    chance: random.Random,
    window: int = 32768,
    kinds: Sequence[int] = (1, 2, 3),
) -> bytes:
    """Encode a parse in blocks of every type; `whole` is what it makes (after the translation of calls)."""
    state = _LzxState(chance, window, kinds)
    at = position = 0
    while position < len(parse):
        count = chance.choice([1, 7, 100, 5000, len(parse)])
        block = parse[position : position + count]
        size = sum(1 if isinstance(token, int) else token[1] for token in block)
        state.block(block, whole[at : at + size])
        at, position = at + size, position + count
    if state.bits.count:
        state.bits.align()
    return bytes(state.bits.out)


class _LzxState:
    def __init__(self, chance: random.Random, window: int, kinds: Sequence[int]) -> None:
        slots = {15: 30, 16: 32, 17: 34, 18: 36, 19: 38, 20: 42, 21: 50}[max((window - 1).bit_length(), 15)]
        self.chance, self.bits, self.window, self.kinds = chance, _LzxBits(), window, kinds
        self.main, self.length = [0] * (256 + 8 * slots), [0] * 249
        self.recent = [1, 1, 1]
        self.bases = [0]
        for slot in range(slots):
            self.bases.append(self.bases[-1] + (1 << self.extra(slot)))

    @staticmethod
    def extra(slot: int) -> int:
        return 0 if slot < 4 else min(slot // 2 - 1, 17)

    def block(self, block: Sequence[Token], data: bytes) -> None:
        kind = self.chance.choice(self.kinds)
        self.bits.put(kind, 3)
        if len(data) == 32768:
            self.bits.put(1, 1)
        else:
            self.bits.put(0, 1)
            if self.window >= 1 << 16:
                self.bits.put(len(data) >> 8, 16)
                self.bits.put(len(data) & 255, 8)
            else:
                self.bits.put(len(data), 16)
        if kind == 3:
            self.bits.align()
            self.recent = [self.chance.randint(1, 3) for _ in range(3)]
            for offset in self.recent:
                self.bits.out += offset.to_bytes(4, "little")
            self.bits.out += data + bytes(len(data) % 2)
            return
        coded = [self._coded(token) for token in block]
        aligned = [value & 7 for _, _, value, bits in coded if kind == 2 and bits >= 3]
        aligned_lengths = code_lengths(aligned, 8, 7, self.chance) if kind == 2 else []
        if kind == 2 and len(set(aligned)) < 2:  # some unpackers want this tree whole even where it is not used
            aligned_lengths = [3] * 8
        for length in aligned_lengths:
            self.bits.put(length, 3)
        main = code_lengths([symbol for symbol, *_ in coded], len(self.main), 16, self.chance)
        lengths = code_lengths([more for _, more, _, _ in coded if more >= 0], 249, 16, self.chance)
        self._tree(self.main, main, 0, 256)
        self._tree(self.main, main, 256, len(main))
        self._tree(self.length, lengths, 0, 249)
        self.main, self.length = main, lengths
        main_codes, length_codes, aligned_codes = codes(main), codes(lengths), codes(aligned_lengths)
        for symbol, more, value, bits in coded:
            self.bits.put(*main_codes[symbol])
            if more >= 0:
                self.bits.put(*length_codes[more])
            if kind == 2 and bits >= 3:
                self.bits.put(value >> 3, bits - 3)
                self.bits.put(*aligned_codes[value & 7])
            else:
                self.bits.put(value, bits)

    def _coded(self, token: Token) -> tuple[int, int, int, int]:
        """Return main symbol, length symbol (-1: none), further bits of the offset and their count."""
        if isinstance(token, int):
            return token, -1, 0, 0
        offset, length = token
        head, more = (7, length - 9) if length >= 9 else (length - 2, -1)
        if offset in self.recent and self.chance.random() < 0.8:
            slot = self.recent.index(offset)
            self.recent[0], self.recent[slot] = self.recent[slot], self.recent[0]
            return 256 + 8 * slot + head, more, 0, 0
        self.recent = [offset, *self.recent[:2]]
        slot = max(number for number, base in enumerate(self.bases[:-1]) if base <= offset + 2)
        return 256 + 8 * slot + head, more, offset + 2 - self.bases[slot], self.extra(slot)

    def _tree(self, before: list[int], lengths: list[int], start: int, end: int) -> None:
        """Write code lengths as differences, with runs of every kind where they are possible."""
        made: list[tuple[int, int, int, int]] = []  # symbol, further value, its bits, difference behind (-1: none)
        at = start
        while at < end:
            run = next((n for n in range(end - at) if lengths[at + n] != lengths[at]), end - at)
            if lengths[at] == 0 and run >= 20 and self.chance.random() < 0.8:
                taken = min(run, 51)
                made.append((18, taken - 20, 5, -1))
            elif lengths[at] == 0 and run >= 4 and self.chance.random() < 0.8:
                taken = min(run, 19)
                made.append((17, taken - 4, 4, -1))
            elif run >= 4 and self.chance.random() < 0.8:
                taken = min(run, 5)
                made.append((19, taken - 4, 1, (before[at] - lengths[at]) % 17))
            else:
                taken = 1
                made.append(((before[at] - lengths[at]) % 17, 0, 0, -1))
            at += taken
        used = [symbol for symbol, *_ in made] + [behind for *_, behind in made if behind >= 0]
        pre = code_lengths(used, 20, 15, self.chance)
        for length in pre:
            self.bits.put(length, 4)
        table = codes(pre)
        for symbol, value, bits, behind in made:
            self.bits.put(*table[symbol])
            self.bits.put(value, bits)
            if behind >= 0:
                self.bits.put(*table[behind])


def translate_calls(data: bytes) -> bytes:
    """Make the targets of x86 calls absolute, as a packer does before it compresses a chunk."""
    out, at = bytearray(data), 0
    while at < len(out) - 10:
        if out[at] != 0xE8:
            at += 1
            continue
        relative = int.from_bytes(out[at + 1 : at + 5], "little", signed=True)
        if -at <= relative < 12_000_000:
            absolute = relative + at if relative + at < 12_000_000 else relative - 12_000_000
            out[at + 1 : at + 5] = absolute.to_bytes(4, "little", signed=True)
        at += 5
    return bytes(out)
