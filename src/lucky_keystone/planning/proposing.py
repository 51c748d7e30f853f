"""What the machines that a drive is for decide of it, where nobody chose: table, firmware, signing, waived checks.

Nothing is taken that would serve the machines worse than what is decided without them: every proposal is tried, and
judged by the rules of starting.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import msgspec
from msgspec import Struct

from ..common.errors import KeystoneError
from ..families.choices import Choices
from ..families.families import family_for
from ..families.family import DriveShape, DriveWish, Earlier, Proposal
from ..machine.facts import MachineFacts
from ..machine.known import KnownMachine, outlooks_of
from ..machine.outlook import MachineOutlook
from ..sources.source import Source
from .combining import wish_of

_WORTH = {"starts": 2, "not known": 1, "will not start": 0}


class Proposed(Struct, frozen=True):
    """What is decided with machines in view."""

    choices: Choices
    earlier: Mapping[str, Earlier]
    """Which of the choices the machines made."""
    wish: DriveWish


class _Attempt(Struct, frozen=True):
    """Choices, and what the machines make of a drive by them."""

    choices: Choices
    wish: DriveWish
    rows: tuple[MachineOutlook, ...]

    @property
    def worth(self) -> int:
        return sum(_WORTH[row.verdict] for row in self.rows)


def proposed(
    source: Source, choices: Choices, drive: DriveShape, machines: Sequence[KnownMachine], *, is_update: bool
) -> Proposed:
    """Return choices with what the machines decide, of each of those the reason, and what the source wishes then.

    Of an update the table and the volumes stay, so only what is put on top of the source is decided. Raises as
    `wish_of` does where nothing can be built by the choices.
    """
    earlier: dict[str, Earlier] = {}
    attempt = _tried(source, choices, drive, machines) if machines else None
    if attempt is None:
        return Proposed(choices, earlier, wish_of(source, choices, drive))
    facts, family = [each.facts for each in machines], family_for(source, choices)
    search = _Search(source, drive, machines, earlier)
    if any(row.verdict != "starts" for row in attempt.rows) and any(each.secure_boot == "on" for each in facts):
        attempt = search.better(attempt, family.for_secure_boot(), gain=1)
    if not is_update:
        attempt = search.better(attempt, list(_firmware(facts)))
    attempt = search.better(attempt, family.for_shortfalls(source, facts))
    return Proposed(attempt.choices, earlier, attempt.wish)


class _Search(Struct, frozen=True):
    """Tries proposals, and keeps the reasons of those that are taken."""

    source: Source
    drive: DriveShape
    machines: Sequence[KnownMachine]
    earlier: dict[str, Earlier]

    def better(self, attempt: _Attempt, proposals: Sequence[Proposal], *, gain: int = 0) -> _Attempt:
        """Return the best of an attempt and those by proposals; the first of them has to be better by `gain`."""
        best, taken = attempt, None
        for proposal in proposals:
            if any(getattr(attempt.choices, name) is not None for name in proposal.values):
                continue  # a part of it is chosen, and the rest may not go with that
            choices = msgspec.structs.replace(attempt.choices, **proposal.values)
            tried = _tried(self.source, choices, self.drive, self.machines)
            if tried is not None and tried.worth >= best.worth + (gain if taken is None else 1):
                best, taken = tried, proposal
        if taken is not None:
            reason = taken.reason or _served(attempt, best)
            self.earlier.update((name, Earlier("machines", reason)) for name in taken.values)
        return best


def _served(before: _Attempt, after: _Attempt) -> str:
    gained = [
        new for old, new in zip(before.rows, after.rows, strict=True) if _WORTH[new.verdict] > _WORTH[old.verdict]
    ]
    return f"{_listed([row.machine for row in gained])} would not start it otherwise: {gained[0].reason}"


def _tried(source: Source, choices: Choices, drive: DriveShape, machines: Sequence[KnownMachine]) -> _Attempt | None:
    try:
        wish = wish_of(source, choices, drive)
    except KeystoneError:
        return None
    return _Attempt(choices, wish, outlooks_of(machines, wish.bootable))


def _firmware(machines: Sequence[MachineFacts]) -> Iterator[Proposal]:
    """What started by BIOS may be able to start by UEFI: only what is known counts."""
    by_uefi = [each for each in machines if each.uefi == "yes"]
    by_bios = [each for each in machines if each.uefi == "no" and each.bios != "no"]
    if len(by_uefi) == len(machines):
        yield Proposal({"table": "gpt", "firmware": "uefi"}, f"{_named(by_uefi)} by UEFI")
    elif len(by_bios) == len(machines):
        yield Proposal({"table": "mbr", "firmware": "bios"}, f"{_named(by_bios)} by BIOS only")
    elif by_uefi and by_bios:
        reason = f"{_named(by_bios)} by BIOS only, {_named(by_uefi)} by UEFI"
        yield Proposal({"table": "mbr", "firmware": "both"}, reason)


def _named(machines: Sequence[MachineFacts]) -> str:
    return f"{_listed([each.shown for each in machines])} start{'s' if len(machines) == 1 else ''}"


def _listed(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
