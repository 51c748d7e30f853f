"""What the release in a source asks of a machine."""

from __future__ import annotations

from ..machine.facts import MachineFacts
from ..machine.requirements import Requirement, requirements
from .facts import SourceFacts


def asked_of(machine: MachineFacts, source: SourceFacts) -> tuple[Requirement, ...]:
    """Return what setup of a source checks, with what a machine has; nothing where it installs nothing.

    Of editions of several types those of clients count: they ask for the most.
    """
    editions = [edition for image in source.images for edition in image.editions]
    if not editions:
        return ()
    kinds = {edition.installation_type for edition in editions}
    return requirements(
        max(edition.build for edition in editions), kinds.pop() if len(kinds) == 1 else "Client", machine
    )
