"""A drive as it is found and compared: identity, size, bus, what is on it, what depends on it."""

from __future__ import annotations

import hashlib
from pathlib import Path

from msgspec import Struct

_TAG_LETTERS = "ACDEFGHJKLMNPQRTUVWXY34679"  # none that is easily taken for another


class Hardware(Struct, frozen=True):
    """What a drive is, wherever it is plugged in and whatever it is called there."""

    model: str
    serial: str
    size: int
    """Bytes."""
    sector_size: int


class Drive(Struct, frozen=True):
    """One drive, simulated or real."""

    path: Path
    """What is opened to read or write it."""
    model: str
    serial: str
    size: int
    """Bytes."""
    sector_size: int
    bus: str
    speed: str
    """How fast the connection is, in words."""
    removable: bool
    internal: bool
    holds_system: bool
    read_only: bool
    mounts: tuple[str, ...]
    """Where its volumes are in use."""
    uses: tuple[str, ...] = ()
    """What else runs on it now, in words: RAID, LVM, encryption."""
    members: tuple[str, ...] = ()
    """What it carries a part of, though nothing of it runs now, in words."""
    volumes: tuple[str, ...] = ()
    """What is on it, as the system reports it; empty when that is only known from its bytes."""
    physical_sector_size: int = 512
    letters: tuple[str, ...] = ()
    """Letters and folders that its volumes are reached by, where a volume is reached whether it is in use or not."""

    nodes: tuple[str, ...] = ()
    """Other names of its device."""

    @property
    def identity(self) -> Hardware:
        """What stays the same when it is plugged in elsewhere."""
        return Hardware(self.model, self.serial, self.size, self.sector_size)

    @property
    def tag(self) -> str:
        """Four characters that name the drive, derived from model, serial and size."""
        return tag_of(self.model, self.serial, self.size)


def tag_of(model: str, serial: str, size: int) -> str:
    """Return the tag for a hardware identity; the same after re-plugging and re-numbering."""
    number = int.from_bytes(hashlib.sha256(f"{model}\0{serial}\0{size}".encode()).digest()[:8], "big")
    letters = []
    for _ in range(4):
        number, letter = divmod(number, len(_TAG_LETTERS))
        letters.append(_TAG_LETTERS[letter])
    return "".join(letters)
