"""Outlooks: whether one kind of firmware starts a drive, and why."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from msgspec import Struct

FirmwareKind = Literal["bios", "uefi", "mac"]
Verdict = Literal["starts", "will not start", "not known"]


class Outlook(Struct, frozen=True):
    """One row of the forecast."""

    firmware: str
    verdict: Verdict
    reason: str
    kind: FirmwareKind
    refines: str = ""
    """The row that this one refines: the same firmware with Secure Boot on."""
    architecture: str = ""
    """What its loaders are made for; '' of BIOS."""
    secure_boot: bool = False
    """True of the row for machines that have Secure Boot on."""
    offers: tuple[str, ...] = ()
    """What such a machine lists on its screen, in this order, where there is a choice; of a Mac its installers."""


def without_repeats(rows: Sequence[Outlook]) -> list[Outlook]:
    """Return the rows for people: one that says no more than the row it refines is left out."""
    said = {row.firmware: (row.verdict, row.reason) for row in rows}
    return [row for row in rows if said.get(row.refines) != (row.verdict, row.reason)]
