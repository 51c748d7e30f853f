"""Optical drives: what discs are read from. They are never written."""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from ..content.discs import DiscState


class OpticalDrive(Struct, frozen=True):
    """One optical drive, simulated or real."""

    path: Path
    """What is opened to read its disc."""
    model: str
    state: DiscState
    size: int
    """Bytes of the disc, as the drive says it; 0 where it says nothing."""
