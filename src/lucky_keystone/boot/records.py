"""The boot records as assembled from `firmware/`, ready to be composed into a drive."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

FURTHER_CODE_MARK = b"LKF1"
"""First bytes of the FAT32 record's code in reserved sector 12."""


@cache
def _asset(name: str) -> bytes:
    return (files(__package__) / "assets" / name).read_bytes()


def mbr_code() -> bytes:
    """The MBR record's code: up to 440 bytes."""
    return _asset("mbr.bin")


def fat32_boot_sector() -> bytes:
    """The FAT32 record's first sector, 512 bytes; its BPB is empty."""
    return _asset("fat32.bin")[:512]


def fat32_further_code() -> bytes:
    """The FAT32 record's further code, for reserved sector 12 and up."""
    return _asset("fat32.bin")[512:]
