"""A machine's file together with what its Secure Boot trusts and refuses, as the rules of starting take it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from pathlib import Path

import msgspec
from msgspec import Struct

from ..starting.bootable import Bootable
from ..starting.rules import outlooks
from ..starting.trust import Machine, SignatureDatabase
from .facts import MachineFacts, read_machine
from .outlook import MachineOutlook, outlook_for


class KnownMachine(Struct, frozen=True):
    """A machine that a drive is to start."""

    facts: MachineFacts
    machine: Machine

    def outlook(self, drive: Bootable) -> MachineOutlook:
        """Return whether it starts a drive, planned or found."""
        return outlook_for(self.facts, outlooks(drive, self.machine))


def known_machine(path: Path, today: date | None) -> KnownMachine:
    """Read a machine's file, and the files that it names. Raises UsageError naming what is wrong."""
    facts = read_machine(path)
    if not facts.name:
        facts = msgspec.structs.replace(facts, name=path.stem)
    from ..starting.signature_lists import read_database  # what reads certificates takes its time to load

    trusted = [read_database(path.parent / name) for name in facts.trusts]
    refused = [read_database(path.parent / name) for name in facts.refuses]
    db = SignatureDatabase.joined(trusted) if trusted else None
    return KnownMachine(facts, Machine(db, SignatureDatabase.joined(refused), facts.model, facts.board, today))


def outlooks_of(machines: Sequence[KnownMachine], drive: Bootable) -> tuple[MachineOutlook, ...]:
    """Return a row for each machine."""
    return tuple(machine.outlook(drive) for machine in machines)
