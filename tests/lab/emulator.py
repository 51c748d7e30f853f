"""Starts a drive as a USB stick in an emulator, under real firmware, and returns what the loader said."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import pytest

from ..conftest import need

OVMF = Path("/usr/share/OVMF")


def start(drive: Path, firmware: str, folder: Path, *, seconds: int = 120) -> str:
    """Start `drive` under 'bios' (SeaBIOS) or 'uefi-x64' (OVMF); return the text from the serial port.

    The drive is opened in snapshot mode: nothing is written to it.
    """
    command = [
        *(need("qemu-system-x86_64"), "-machine", "q35", "-accel", "tcg", "-m", "512", "-display", "none", "-no-reboot"),
        *("-nic", "none", "-monitor", "none", "-serial", f"file:{folder / 'serial.txt'}"),
        *("-drive", f"if=none,id=stick,format=raw,file={drive},snapshot=on", "-device", "qemu-xhci"),
        *("-device", "usb-storage,drive=stick,bootindex=0", "-device", "isa-debug-exit,iobase=0xf4,iosize=4"),
    ]
    if firmware == "uefi-x64":
        code, variables = OVMF / "OVMF_CODE_4M.fd", folder / "variables.fd"
        if not code.exists():
            pytest.skip("OVMF is not installed")
        variables.write_bytes((OVMF / "OVMF_VARS_4M.fd").read_bytes())
        command += ["-drive", f"if=pflash,format=raw,readonly=on,file={code}", "-drive", f"if=pflash,format=raw,file={variables}"]
    subprocess.run(command, timeout=seconds, check=False, capture_output=True)
    return (folder / "serial.txt").read_text("utf-8", "replace")


def files_told(serial: str) -> dict[str, tuple[int, int]]:
    """Return {path: (size, CRC-32)} of every file the UEFI stand-in loader read."""
    found = re.findall(r"^FILE ([0-9a-f]{8}) (\d+) (.*?)\r?$", serial, re.MULTILINE)
    return {_unescape(path): (int(size), int(crc, 16)) for crc, size, path in found}


def _unescape(text: str) -> str:
    return re.sub(r"\\u([0-9a-f]{4})", lambda match: chr(int(match.group(1), 16)), text)
