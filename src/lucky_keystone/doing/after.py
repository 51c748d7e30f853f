"""What comes after the writing: the system told, and the drive released."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ..common.errors import KeystoneError
from ..drives.host import Span
from .targets import Chosen

if TYPE_CHECKING:
    from .work import RetryingMedium


def tell_system(chosen: Chosen, medium: RetryingMedium, partitions: Sequence[Span]) -> list[str]:
    """Let the system look at the new table of an open drive; return what is to be said of it."""
    if chosen.host is None:
        return []
    words = chosen.host.tell_of_table(medium.opened, partitions)
    return [words] if words else []


def eject(chosen: Chosen) -> list[str]:
    """Make a closed drive ready to be pulled out; a failure of that is reported and does not fail the work."""
    if chosen.host is None or chosen.drive is None:
        return ["An image file needs no ejecting."]
    try:
        return [chosen.host.eject(chosen.drive)]
    except KeystoneError as error:
        return [f"{error.message} {error.advice}"]
