"""What may serve machines that a drive is for: another signing of its loaders, checks of setup left out."""

from __future__ import annotations

from collections.abc import Sequence

from ...machine.facts import MachineFacts
from ...setup.waivers import WAIVERS
from ...starting.generations import GENERATIONS
from ..asking import asked_of
from ..facts import SourceFacts
from ..family import Proposal

SIGNINGS = tuple(Proposal({"loader_signing": each.name}) for each in GENERATIONS)


def waived_for(facts: SourceFacts, machines: Sequence[MachineFacts]) -> Sequence[Proposal]:
    """Return the waivers for what machines are known to lack; what is not known of one is left to setup."""
    lacking = [
        (machine.shown, [each for each in asked_of(machine, facts) if each.met == "not met" and each.waiver])
        for machine in machines
    ]
    wanted = {each.waiver for _, every in lacking for each in every}
    names = [waiver.name for waiver in WAIVERS if waiver.name in wanted]
    refused = [
        f"{machine} ({', '.join(f'{each.name} {each.has}' for each in every)})" for machine, every in lacking if every
    ]
    return [Proposal({"waive": ",".join(names)}, f"setup would refuse {_listed(refused)}")] if names else []


def _listed(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
