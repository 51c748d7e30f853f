"""A drive as it is found and compared: identity, size, bus, what is on it, and whether it may be written."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path

_TAG_LETTERS = "ACDEFGHJKLMNPQRTUVWXY34679"  # none that is easily taken for another


@dataclass(frozen=True)
class Drive:
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
    """What else depends on it, in words: RAID, LVM, encryption."""
    volumes: tuple[str, ...] = ()
    """What is on it, as the system tells it; empty when that is only known from its bytes."""
    physical_sector_size: int = 512

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


def held_back(drive: Drive, among: tuple[Drive, ...] = (), needed: int = 0) -> tuple[str, ...]:
    """Return why `drive` may not be written, in words; empty when it may.

    `among` are all drives listed (two with one tag cannot be told apart), `needed` the bytes a plan wants.
    """
    reasons: list[str] = []
    if drive.holds_system:
        reasons.append("holds this computer's system")
    if drive.internal:
        reasons.append("is built into this computer")
    if drive.mounts:
        reasons.append("is in use: " + ", ".join(drive.mounts))
    reasons += drive.uses
    if drive.read_only:
        reasons.append("is read-only")
    if sum(other.tag == drive.tag for other in among) > 1:
        reasons.append("cannot be told apart from another drive with the same model, serial and size")
    if needed > drive.size:
        reasons.append(f"is too small: {needed:,} bytes are needed, it has {drive.size:,}")
    return tuple(reasons)
