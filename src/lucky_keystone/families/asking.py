"""What the release in a source asks of machines."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from ..machine.facts import MachineFacts
from ..machine.requirements import Requirement, model_listed, requirements
from ..setup.waivers import NONE, waivers_of
from ..starting.mac_models import ListedMacs, named_mac
from .facts import SourceFacts

_BY_NAME = ("yes", "available")
"""What is asked for where the name of a requirement says it."""


def asked_of(machine: MachineFacts, source: SourceFacts) -> tuple[Requirement, ...]:
    """Return what setup of a source checks, with what a machine has; nothing where it installs nothing.

    Of editions of several types those of clients count: they ask for the most.
    """
    if source.mac is not None and source.mac.listed != ListedMacs():
        return (_listing(source, machine.model, machine.board),)
    editions = [edition for image in source.images for edition in image.editions]
    asking = [edition for edition in editions if not edition.is_server] or editions
    if not asking:
        return ()
    newest = max(asking, key=lambda edition: edition.build)
    return requirements(newest.build, newest.installation_type, machine)


def needs_of(source: SourceFacts) -> str:
    """Return in words what a release asks of machines; '' where it installs nothing, or asks for nothing."""
    if source.mac is not None and source.mac.listed.models:
        return f"one of {len(source.mac.listed.models)} models of Macs"
    asked = [each for each in asked_of(MachineFacts(), source) if each.asked]
    return ", ".join(each.name if each.asked in _BY_NAME else f"{each.name} {each.asked}" for each in asked)


def build_of(source: SourceFacts) -> str:
    """Return the build of what a source installs, or else of its setup environment; '' where nothing says it."""
    if source.mac is not None:
        return source.mac.build
    environments = (edition.build for image in source.boot_images for edition in image.editions)
    return str(source.build or max(environments, default=0) or "")


def model_for(source: SourceFacts, model: str) -> Requirement:
    """Return whether the release of a macOS installer is for a Mac, by its model or board id."""
    return _listing(source, *named_mac(model))


def _listing(source: SourceFacts, model: str, board: str) -> Requirement:
    listed = source.mac.listed if source.mac is not None else ListedMacs()
    return model_listed(model, board, listed, for_silicon="arm64" in source.architectures)


class Shortfall(Struct, frozen=True):
    """Something that a release asks for and a machine does not have."""

    machine: str
    requirement: Requirement
    is_waived: bool
    """True when the drive leaves the check out."""

    @property
    def next_step(self) -> str:
        if self.is_waived:
            return "the check is waived"
        return self.requirement.next_step


def shortfalls(machines: Sequence[MachineFacts], source: SourceFacts, waive: str | None) -> tuple[Shortfall, ...]:
    """Return where machines fall short of what a release asks for, on a drive with these waivers."""
    waived = {each.name for each in waivers_of(waive or NONE)}
    return tuple(
        Shortfall(machine.shown, each, each.waiver in waived)
        for machine in machines
        for each in asked_of(machine, source)
        if each.met == "not met"
    )
