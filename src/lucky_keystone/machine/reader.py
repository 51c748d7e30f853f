"""What reads the facts of the computer that the program runs on: one per system."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from ..common.errors import KeystoneError
from ..drives.drive import Drive
from .facts import MachineFacts


class MachineReader(Protocol):
    """Asks a system for what it shows everybody; what that leaves open stays unknown."""

    def facts(self) -> MachineFacts:
        """Return what the system says. What it does not say is left out."""

    def database(self, name: str) -> bytes:
        """Return the signature lists of 'db' or 'dbx' as firmware keeps them; b"" where there are none to read."""

    def unknown(self) -> tuple[str, ...]:
        """Return what could not be read here and what helps, a sentence each."""


def largest_internal(drives: Callable[[], Sequence[Drive]]) -> int | None:
    """Return the bytes of the largest disk that is built in; None where the system does not list its drives."""
    try:
        return max((drive.size for drive in drives() if drive.internal), default=None)
    except KeystoneError:
        return None
