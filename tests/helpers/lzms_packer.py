"""A packer for LZMS, made to be awkward: it encodes any parse. It shares nothing with the unpackers."""

from __future__ import annotations

import heapq
import random
from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import count

Item = int | tuple[int, int] | tuple[int, int, int]
"""A literal; (offset, length) of a copy; (power, distance, length) of a sum."""


def items(chance: random.Random, size: int) -> tuple[list[Item], bytes]:
    """Return a random parse and the bytes that it makes."""
    made: list[Item] = []
    out = bytearray()
    alphabet = chance.choice([b"ab", bytes(range(256)), b"\xe8\xe9\x48\x8b\x05\x00\xff\x15", b"\0"])
    lengths = [1, 2, 3, 4, 27, 28, 33, 100, 300, 5000]
    favourites = [1, 2, 3, 4]
    while len(out) < size:
        left, kind = size - len(out), chance.random()
        if len(out) > 4 and kind < 0.35:
            offset = min(chance.choice([*favourites, chance.randint(1, len(out)), len(out)]), len(out))
            length = min(chance.choice([*lengths, chance.randint(1, 200)]), left)
            favourites = [offset, *favourites[:3]]
            made.append((offset, length))
            for _ in range(length):
                out.append(out[-offset])
        elif len(out) > 300 and kind < 0.5:
            power = chance.randrange(8)
            distance = chance.choice([1, 2, 3, 4, chance.randint(1, max(len(out) >> power + 1, 1))])
            span, offset = 1 << power, distance << power
            if span + offset > len(out):
                continue
            length = min(chance.choice(lengths), left)
            made.append((power, distance, length))
            for _ in range(length):
                at = len(out)
                out.append((out[at - span] + out[at - offset] - out[at - span - offset]) & 255)
        else:
            made.append(chance.choice(alphabet))
            out.append(made[-1])  # type: ignore[arg-type]
    return made, bytes(out)


class _Ranges:
    """Range coder with 16-bit words; a carry goes back through the words that are out already."""

    def __init__(self) -> None:
        self.words: list[int] = []
        self.low, self.range = 0, 0xFFFFFFFF

    def put(self, bit: int, zeros: int) -> None:
        if self.range <= 0xFFFF:
            self.range <<= 16
            self.words.append(self.low >> 16)
            self.low = self.low << 16 & 0xFFFFFFFF
        bound = (self.range >> 6) * min(max(zeros, 1), 63)
        if not bit:
            self.range = bound
            return
        self.low += bound
        self.range -= bound
        if self.low >> 32:
            self.low &= 0xFFFFFFFF
            place = len(self.words) - 1
            while self.words[place] == 0xFFFF:
                self.words[place] = 0
                place -= 1
            self.words[place] += 1

    def end(self) -> list[int]:
        return [*self.words, self.low >> 16, self.low & 0xFFFF]


@dataclass
class _Kind:
    """Decisions of one kind: their state, and the last 64 outcomes in each state."""

    bits: int
    state: int = 0
    outcomes: dict[int, list[int]] = field(default_factory=dict)

    def put(self, bit: int, ranges: _Ranges) -> None:
        past = self.outcomes.setdefault(self.state, [0] * 32 + [0, 1] * 16)
        ranges.put(bit, past.count(0))
        past.append(bit)
        del past[0]
        self.state = (self.state << 1 | bit) & ((1 << self.bits) - 1)


class _Huffman:
    def __init__(self, symbols: int, every: int) -> None:
        self.weights, self.every, self.left = [1] * symbols, every, 0
        self.codes: dict[int, tuple[int, int]] = {}

    def put(self, symbol: int, bits: list[int]) -> None:
        if not self.left:
            self.codes = self._made()
            self.weights = [weight // 2 + 1 for weight in self.weights]
            self.left = self.every
        self.left -= 1
        self.weights[symbol] += 1
        code, length = self.codes[symbol]
        bits += [code >> n & 1 for n in range(length - 1, -1, -1)]

    def _made(self) -> dict[int, tuple[int, int]]:
        """Canonical codes; the lengths go to the symbols by weight, the longest to the lightest."""
        order = sorted(range(len(self.weights)), key=lambda symbol: (self.weights[symbol], symbol))
        if len(order) == 1:
            return {order[0]: (0, 1)}
        serial = count()
        heap = [(self.weights[symbol], 0, next(serial), 0, [symbol]) for symbol in order]
        depth = dict.fromkeys(order, 0)
        heapq.heapify(heap)
        while len(heap) > 1:
            one, two = heapq.heappop(heap), heapq.heappop(heap)
            both = one[4] + two[4]
            for symbol in both:
                depth[symbol] += 1
            heapq.heappush(heap, (one[0] + two[0], 1, next(serial), 0, both))
        lengths = sorted(depth.values(), reverse=True)
        assert lengths[0] <= 15, "a code beyond 15 bits: choose another parse"
        by_symbol = dict(zip(order, lengths, strict=True))
        made, code = {}, 0
        for length in range(1, 16):
            for symbol in sorted(by_symbol):
                if by_symbol[symbol] == length:
                    made[symbol] = (code, length)
                    code += 1
            code <<= 1
        return made


def _slots(runs: Sequence[int], end: int) -> list[int]:
    bases, base = [], 0
    for power, number in enumerate(runs):
        for _ in range(number):
            base += 1 << power
            bases.append(base)
    return [*bases, end]


_OFFSETS = _slots((9, 0, 9, 7, 10, 15, 15, 20, 20, 30, 33, 40, 42, 45, 60, 73, 80, 85, 95, 105, 6), 0x7FFFFFFF)
_LENGTHS = _slots((27, 4, 6, 4, 5, 2, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 1), 0x400108AB)


class _Queue:
    """The four that were used last; where the item before was of the kind, its own does not count."""

    def __init__(self, first: Sequence[object]) -> None:
        self.recent = list(first)
        self.was_last = False

    def find(self, value: object) -> int | None:
        known = self.recent[self.was_last : self.was_last + 3]
        return known.index(value) if value in known else None

    def use(self, value: object, number: int | None) -> None:
        if number is None:
            self.recent = [value, *self.recent[:3]]
        else:
            self.recent.insert(0, self.recent.pop(number + self.was_last))


class _Packer:
    def __init__(self, size: int, chance: random.Random) -> None:
        self.chance, self.ranges, self.bits = chance, _Ranges(), list[int]()
        slots = sum(1 for base in _OFFSETS[:-1] if base <= size - 1) if size > 1 else 0
        self.literals, self.lengths = _Huffman(256, 1024), _Huffman(54, 512)
        self.offsets, self.sums, self.powers = _Huffman(slots, 1024), _Huffman(slots, 1024), _Huffman(8, 512)
        self.main, self.match = _Kind(4), _Kind(5)
        self.repeat, self.repeat_sum = _Kind(6), _Kind(6)
        self.which = [[_Kind(6), _Kind(6)], [_Kind(6), _Kind(6)]]
        self.queues = [_Queue([1, 2, 3, 4]), _Queue([(0, 1), (0, 2), (0, 3), (0, 4)])]

    def number(self, code: _Huffman, bases: Sequence[int], value: int) -> None:
        slot = max(n for n, base in enumerate(bases[:-1]) if base <= value)
        code.put(slot, self.bits)
        extra = (bases[slot + 1] - bases[slot]).bit_length() - 1
        self.bits += [value - bases[slot] >> n & 1 for n in range(extra - 1, -1, -1)]

    def put(self, item: Item) -> None:
        self.main.put(0 if isinstance(item, int) else 1, self.ranges)
        if isinstance(item, int):
            self.literals.put(item, self.bits)
            kind = None
        else:
            kind = len(item) - 2
            self.match.put(kind, self.ranges)
            value = item[0] if kind == 0 else item[:2]
            number = self.queues[kind].find(value) if self.chance.random() < 0.8 else None
            (self.repeat, self.repeat_sum)[kind].put(0 if number is None else 1, self.ranges)
            if number is not None:
                for n in range(2):
                    if n <= number:
                        self.which[kind][n].put(0 if n == number else 1, self.ranges)
            elif kind == 0:
                self.number(self.offsets, _OFFSETS, item[0])
            else:
                self.powers.put(item[0], self.bits)
                self.number(self.sums, _OFFSETS, item[1])
            self.queues[kind].use(value, number)
            self.number(self.lengths, _LENGTHS, item[-1])
        for each, queue in enumerate(self.queues):
            queue.was_last = each == kind


def pack_lzms(parse: Sequence[Item], size: int, chance: random.Random) -> bytes:
    """Encode a parse of `size` bytes. A word lies between both streams: some unpackers read one ahead."""
    packer = _Packer(size, chance)
    for item in parse:
        packer.put(item)
    bits = packer.bits + [0] * (-len(packer.bits) % 16)
    back = [int("".join(map(str, bits[at : at + 16])), 2) for at in range(0, len(bits), 16)]
    words = [*packer.ranges.end(), 0, *reversed(back)]
    return b"".join(word.to_bytes(2, "little") for word in words)


_INSTRUCTIONS = {
    **{bytes([0x48, 0x8B, mode]): 3 for mode in (0x05, 0x0D)},
    **{bytes([first, 0x8D, mode]): 3 for first in (0x48, 0x4C) for mode in range(5, 256, 8)},
    b"\xe8": 1,
    b"\xf0\x83\x05": 3,
    b"\xff\x15": 2,
}


def translate_x86(data: bytes) -> bytes:
    """Make operands of x86 instructions absolute where code is, as a packer does before it compresses a chunk."""
    out, uses = bytearray(data), dict[int, int]()
    code_seen, at = -1024, 1
    while at < len(out) - 16:
        if out[at] == 0xE9:
            at += 5
            continue
        size = next((length for head, length in _INSTRUCTIONS.items() if out[at : at + len(head)] == head), 0)
        if not size:
            at += 1
            continue
        place = at + size
        target = at + int.from_bytes(out[place : place + 2], "little") & 0xFFFF
        if at - code_seen <= (511 if out[at] == 0xE8 else 1023):
            absolute = int.from_bytes(out[place : place + 4], "little") + at & 0xFFFFFFFF
            out[place : place + 4] = absolute.to_bytes(4, "little")
        end = place + 3
        if end - uses.get(target, -65536) <= 65535:
            code_seen = end
        uses[target] = end
        at = end + 1
    return bytes(out)
