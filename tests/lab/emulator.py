"""Starts a drive as a USB stick in an emulator, under real firmware, and returns what the loader said."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest

from lucky_keystone.rehearsal.emulator import FIRMWARES, Started, find_image, start_drive

OVMF = Path("/usr/share/OVMF")


LIMIT = 3600
"""Seconds. It only catches hanging: a start ends with what it says."""
_GIVEN_UP = re.compile(r"BdsDxe: failed to|Press a key|^=> ", re.MULTILINE)


def has_given_up(text: str) -> bool:
    """Tell whether firmware or our boot code has said that it goes no further: OVMF, our own, U-Boot's prompt."""
    return _GIVEN_UP.search(text) is not None


def need_firmware(firmware: str, image: Path | None = None) -> None:
    """Skip the test, naming it, when emulator or firmware is not installed."""
    kind = FIRMWARES[firmware]
    if shutil.which(kind.program) is None or (kind.images and (image or find_image(kind.images)) is None):
        pytest.skip(f"{kind.program} or the firmware for {kind.name} is not installed")


def start(drive: Path, firmware: str, *, image: Path | None = None, store: Path | None = None) -> Started:
    """Start `drive`, opened in snapshot mode, until it has switched the machine off or has given up."""
    need_firmware(firmware, image)
    return start_drive(drive, firmware, seconds=LIMIT, until=has_given_up, image=image, store=store)


def files_told(serial: str) -> dict[str, tuple[int, int]]:
    """Return {path: (size, CRC-32)} of every file the UEFI stand-in loader read."""
    found = re.findall(r"^FILE ([0-9a-f]{8}) (\d+) (.*?)\r?$", serial, re.MULTILINE)
    return {_unescape(path): (int(size), int(crc, 16)) for crc, size, path in found}


def _unescape(text: str) -> str:
    return re.sub(r"\\u([0-9a-f]{4})", lambda match: chr(int(match.group(1), 16)), text)
