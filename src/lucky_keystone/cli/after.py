"""What comes after the writing: the system told, the drive released, and how to start from it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ..drives.host import Span
from ..errors import KeystoneError
from .targets import Chosen

if TYPE_CHECKING:
    from ..planning.plan import Plan
    from ..work import RetryingMedium

HOW_TO_START = (
    "To start a machine from it: plug it in, switch the machine on and open its boot menu (usually F12, F11, F9, F8 or "
    "Esc, pressed repeatedly right after power-on; on a Mac hold Option). The stick may be listed twice, for UEFI and "
    "for BIOS."
)

HOW_TO_START_A_MAC = (
    "To start a Mac from it: plug it in, switch the Mac on while holding Option (on Apple silicon hold the power "
    "button) until drives are shown, and choose '{label}'."
)


def how_to_start(plan: Plan) -> list[str]:
    """Return how the machines are started that the forecast says start, a paragraph each."""
    able = [row.firmware for row in plan.forecast if row.verdict != "will not start"]
    for_macs = any(name.startswith("Mac") for name in able)
    said = [HOW_TO_START] if not for_macs or not all(name.startswith("Mac") for name in able) else []
    labels = [volume.planned.label for volume in plan.volumes if volume.wish.tree.special.unix.starts_with]
    shown = "' or '".join(labels)
    return [*said, HOW_TO_START_A_MAC.format(label=shown)] if for_macs else said


def tell_system(chosen: Chosen, medium: RetryingMedium, partitions: Sequence[Span]) -> list[str]:
    """Let the system look at the new table of an open drive; return what is to be said of it."""
    if chosen.host is None:
        return []
    words = chosen.host.tell_of_table(medium.opened, partitions)
    return [words] if words else []


def eject(chosen: Chosen) -> list[str]:
    """Make a closed drive ready to be pulled out; a failure of that is said and is no failure of the work."""
    if chosen.host is None or chosen.drive is None:
        return ["An image file needs no ejecting."]
    try:
        return [chosen.host.eject(chosen.drive)]
    except KeystoneError as error:
        return [f"{error.message} {error.advice}"]
