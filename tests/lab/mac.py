"""Starts a drive as a Mac does: a program under UEFI firmware reads what the volume's header names, and starts it.

The program (mac_firmware.c) and somebody else's HFS+ driver lie on a second disk: the tried drive stays as built.
"""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import pytest

from ..helpers.judges import need
from .emulator import LIMIT, OVMF
from .programs import compile_program

DRIVER = Path(__file__).parents[2] / ".lab-images/usr/share/refind/refind/drivers_x64/hfs_x64.efi"


def firmware_disk(folder: Path) -> Path:
    """Make the second disk."""
    if not DRIVER.exists():
        pytest.skip("no HFS+ driver for firmware below .lab-images/ (run-tests puts one there)")
    program, disk = compile_program("mac_firmware", folder), folder / "firmware.img"
    with disk.open("wb") as out:
        out.truncate(64 << 20)
    subprocess.run([need("mformat"), "-i", disk, "-F", "::"], check=True)
    subprocess.run([need("mmd"), "-i", disk, "::/EFI", "::/EFI/BOOT"], check=True)
    for file, name in ((program, "::/EFI/BOOT/BOOTX64.EFI"), (DRIVER, "::/hfs_x64.efi")):
        subprocess.run([need("mcopy"), "-i", disk, file, name], check=True)
    return disk


def start_by_header(tried: Path, disk: Path, folder: Path) -> str:
    """Start `tried` the way an HFS+ header names its loader; return what was said on the serial port."""
    serial, variables = folder / "serial.txt", folder / "variables.fd"
    variables.write_bytes((OVMF / "OVMF_VARS_4M.fd").read_bytes())
    command = [need("qemu-system-x86_64"), "-machine", "q35", "-accel", "tcg", "-m", "512", "-display", "none"]
    command += ["-no-reboot", "-nic", "none", "-monitor", "none", "-serial", f"file:{serial}", "-device", "qemu-xhci"]
    command += ["-drive", f"if=pflash,format=raw,readonly=on,file={OVMF / 'OVMF_CODE_4M.fd'}"]
    command += ["-drive", f"if=pflash,format=raw,file={variables}"]
    for number, path in enumerate((disk, tried)):
        command += ["-drive", f"if=none,id=disk{number},format=raw,file={path},snapshot=on"]
        command += ["-device", f"usb-storage,drive=disk{number},bootindex={number},removable=on"]
    subprocess.run(command, timeout=LIMIT, check=True, capture_output=True)
    return serial.read_text("utf-8", "replace")


def files_said(serial: str) -> dict[str, tuple[str, int, int]]:
    """Return {path: (what it is, size, CRC-32)} of what the stand-in loader read."""
    found = re.findall(r"^(KERNEL|BASE|CONTAINER) ([0-9a-f]{8}) ([0-9a-f]{16}) (.*?)\r?$", serial, re.MULTILINE)
    return {path: (what, int(size, 16), int(crc, 16)) for what, crc, size, path in found}
