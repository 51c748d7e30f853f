"""The rules of starting: a list, one per kind of firmware. A further kind is a module and a line here."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from .bios import Bios
from .bootable import Bootable
from .mac import Mac
from .offers import with_offers
from .outlook import Outlook
from .pe import REMOVABLE_LOADERS
from .trust import ANY_MACHINE, Machine
from .uefi import Uefi


class StartRule(Protocol):
    """Says whether one kind of firmware starts a drive, and why."""

    def rows(self, drive: Bootable, machine: Machine) -> Sequence[Outlook]:
        """Return one row, or several that refine each other."""


RULES: Sequence[StartRule] = (Bios(), *(Uefi(architecture) for architecture in REMOVABLE_LOADERS), Mac())


def outlooks(drive: Bootable, machine: Machine = ANY_MACHINE) -> tuple[Outlook, ...]:
    """Ask every rule of a drive, planned or found."""
    return with_offers(drive, [row for rule in RULES for row in rule.rows(drive, machine)])
