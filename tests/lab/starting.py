"""What a start has to show: the stand-in loaders say what they found on the serial port."""

from __future__ import annotations

import zlib
from pathlib import Path

from lucky_keystone.content.contents import stream
from lucky_keystone.content.tree import Folder

from .emulator import files_told, start

BIOS_DONE = ["loader body in memory: ok", "boot/bcd: ok", "sources/boot.wim: ok", "TIDEWELL BIOS DONE"]


def sums_of(tree: Folder) -> dict[str, tuple[int, int]]:
    """Return {path: (size, CRC-32)} of a tree, its bytes read from where its contents lie."""
    result = {}
    for path, file in tree.files():
        crc = 0
        for piece in stream(file.content):
            crc = zlib.crc32(piece, crc)
        result[path] = (file.size, crc)
    return result


def assert_bios_starts(path: Path, firmware: str = "bios") -> None:
    serial = start(path, firmware).serial
    assert [line for line in BIOS_DONE if line not in serial] == [], serial


def assert_uefi_reads_all(path: Path, tree: Folder, firmware: str = "uefi-x64") -> None:
    serial = start(path, firmware).serial
    assert "TIDEWELL UEFI DONE" in serial, serial[-2000:]
    assert files_told(serial) == sums_of(tree)
