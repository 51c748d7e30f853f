"""The stand-in loaders, made ready for a source: they check what a real loader relies on and say so."""

from __future__ import annotations

import hashlib
import zlib
from importlib.resources import files

from ..content.contents import Content, stream

_HEADER_SIZE = 64
_BODY_FIELD = 20


def uefi_loader(architecture: str) -> bytes:
    """A UEFI application for 'x64', 'x86' or 'arm64' that reads every file of the volume it was started from."""
    return (files(__package__) / "assets" / f"uefi-loader-{architecture}.efi").read_bytes()


def system_loader(firmware: str) -> bytes:
    """A boot manager for 'bios' or 'uefi' that finds its system by the boot store, and reads every file of it."""
    name = "system-loader-bios.bin" if firmware == "bios" else "system-loader-x64.efi"
    return (files(__package__) / "assets" / name).read_bytes()


def mac_loader() -> bytes:
    """A UEFI application for 'x64' that reads its boot configuration, and what that names, as a Mac's loader does."""
    return (files(__package__) / "assets" / "mac-loader-x64.efi").read_bytes()


def bios_loader(size: int, settings: bytes, environment: Content) -> bytes:
    """Return a BIOS stand-in loader of `size` bytes that checks itself, boot/bcd and sources/boot.wim.

    Header fields, each 32 bits from byte 20: own size, CRC-32 of the body, size and CRC-32 of both files.
    """
    code = (files(__package__) / "assets" / "bios-loader.bin").read_bytes()
    filler = hashlib.shake_128(b"tidewell loader %d" % size).digest(size - len(code))
    whole = bytearray(code + filler)
    sum_of_wim = 0
    for piece in stream(environment):
        sum_of_wim = zlib.crc32(piece, sum_of_wim)
    fields = (size, zlib.crc32(whole[_HEADER_SIZE:]), len(settings), zlib.crc32(settings), environment.size, sum_of_wim)
    for number, value in enumerate(fields):
        at = _BODY_FIELD + 4 * number
        whole[at : at + 4] = value.to_bytes(4, "little")
    return bytes(whole)
