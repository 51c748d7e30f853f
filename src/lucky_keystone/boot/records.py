"""The boot records as assembled from `firmware/`, ready to be composed into a drive."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

FURTHER_CODE_MARKS = {"fat32": b"LKF1", "ntfs": b"LKN1"}
"""First bytes of a record's further code, by file system: in reserved sector 12 of FAT32, in the second sector of NTFS."""


@cache
def _asset(name: str) -> bytes:
    return (files(__package__) / "assets" / name).read_bytes()


def mbr_code() -> bytes:
    """The MBR record's code: up to 440 bytes."""
    return _asset("mbr.bin")


def boot_sector(file_system: str) -> bytes:
    """The first sector of the record for 'fat32' or 'ntfs', 512 bytes; its BPB is empty."""
    return _asset(f"{file_system}.bin")[:512]


def further_code(file_system: str) -> bytes:
    """The record's further code, whole sectors of 512 bytes."""
    return _asset(f"{file_system}.bin")[512:]


def code_of(boot: bytes, file_system: str) -> bytes:
    """Return the code within a boot sector, behind its BPB."""
    return boot[{"fat32": 90, "ntfs": 0x54}[file_system] : 510]


def crossing(architecture: str) -> bytes:
    """Our UEFI helper for 'x64', 'x86' or 'arm64'."""
    return _asset(f"crossing-{architecture}.efi")
