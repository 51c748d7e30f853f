"""The x86 filter of LZMS: operands that were made absolute before packing, so that equal targets look alike.

There is no published description; what is here was found to agree with an independent unpacker.
"""

from __future__ import annotations

from collections.abc import Callable

_TAIL = 16
"""Bytes at the end in which nothing is translated."""
_WINDOW = 65535
"""A target that was used no longer ago shows that this is code."""
_MOST_APART, _MOST_APART_CALLS = 1023, 511
"""From such a place on operands of instructions are translated, at most this many bytes away."""
_JUMP = 0xE9


def undo_x86(data: bytearray) -> None:
    """Undo the translation in a whole chunk."""
    end = len(data) - _TAIL
    if end <= 1:
        return
    last_use: dict[int, int] = {}
    last_code = -_MOST_APART - 1
    at = 1  # the first byte begins no instruction
    while at < end:
        opcode = data[at]
        if opcode == _JUMP:
            at += 5
            continue
        size = _OPERANDS[opcode](data[at + 1], data[at + 2]) if opcode in _OPERANDS else 0
        if not size:
            at += 1
            continue
        operand = at + size
        most = _MOST_APART_CALLS if opcode == _CALL else _MOST_APART
        if at - last_code <= most:
            value = int.from_bytes(data[operand : operand + 4], "little") - at & 0xFFFF_FFFF
            data[operand : operand + 4] = value.to_bytes(4, "little")
        target = at + int.from_bytes(data[operand : operand + 2], "little") & 0xFFFF
        at = operand + 3
        if at - last_use.get(target, -_WINDOW - 1) <= _WINDOW:
            last_code = at
        last_use[target] = at
        at += 1


_CALL = 0xE8
_OPERANDS: dict[int, Callable[[int, int], int]] = {
    0x48: lambda one, two: 3 if (one == 0x8B and two in (0x05, 0x0D)) or (one == 0x8D and two & 7 == 5) else 0,
    0x4C: lambda one, two: 3 if one == 0x8D and two & 7 == 5 else 0,
    _CALL: lambda _one, _two: 1,
    0xF0: lambda one, two: 3 if (one, two) == (0x83, 0x05) else 0,
    0xFF: lambda one, _two: 2 if one == 0x15 else 0,
}
"""By first byte: bytes in front of the operand, from the two bytes behind it; 0 where there is none."""
