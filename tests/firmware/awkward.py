"""Awkward firmware, and drives with bytes changed."""

from __future__ import annotations

START = 2048  # first sector of the partition

AWKWARD = [
    {},
    {"extended_reads": False},
    {"extended_reads": False, "heads": 16, "track": 63},
    {"extended_reads": False, "heads": 128, "track": 32},
    {"extended_reads_fail": True},
    {"drive_number": 0x81},
]


class Bytes:
    def __init__(self, data: bytes, size: int | None = None) -> None:
        self.data, self.size = data, size or len(data)

    def read_at(self, offset: int, size: int) -> bytes:
        return self.data[offset : offset + size].ljust(size, b"\0")


def patched(drive: bytes, *changes: tuple[int, bytes]) -> bytes:
    data = bytearray(drive)
    for offset, piece in changes:
        data[offset : offset + len(piece)] = piece
    return bytes(data)
