"""Whether a machine starts a drive: of the rows of a forecast those that its firmware is."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from msgspec import Struct

from ..starting.outlook import FirmwareKind, Outlook, Verdict
from ..starting.uefi import NAMES
from .facts import MachineFacts

_MAC = re.compile(r"[A-Za-z]+\d+,\d+")
"""Models of Macs, as MacBookPro14,1."""


class MachineOutlook(Struct, frozen=True):
    """Whether a drive starts on one machine."""

    machine: str
    verdict: Verdict
    by: str
    """The row of the forecast that decides it: 'UEFI 64-bit, Secure Boot'; '' where none fits."""
    reason: str


class _Way(Struct, frozen=True):
    """How a machine may start."""

    kind: FirmwareKind
    architecture: str = ""
    secure_boot: bool = False
    is_certain: bool = True
    """False where it is not known whether it can start so."""

    def fits(self, row: Outlook) -> bool:
        return (row.kind, row.architecture, row.secure_boot) == (self.kind, self.architecture, self.secure_boot)


def outlook_for(machine: MachineFacts, rows: Sequence[Outlook]) -> MachineOutlook:
    """Return the best of the ways in which a machine can start a drive, certain ones first."""
    ways = [(row, way.is_certain) for way in _ways(machine) for row in rows if way.fits(row)]
    if not ways and _MAC.fullmatch(machine.model):
        return MachineOutlook(machine.shown, "will not start", "", "nothing on it is for Macs")
    if not ways:
        return MachineOutlook(machine.shown, "not known", "", "nothing is known of its firmware")
    for row, is_certain in ways:
        if row.verdict == "starts" and is_certain:
            return MachineOutlook(machine.shown, "starts", row.firmware, row.reason)
    for row, is_certain in ways:
        if row.verdict != "will not start":
            doubt = "" if is_certain else f"; whether it starts by {row.firmware} is not known"
            return MachineOutlook(machine.shown, "not known", row.firmware, f"{row.reason}{doubt}")
    row = ways[0][0]
    return MachineOutlook(machine.shown, "will not start", row.firmware, row.reason)


def _ways(machine: MachineFacts) -> Iterator[_Way]:
    """Yield how a machine may start, what is most likely first."""
    if _MAC.fullmatch(machine.model):
        yield _Way("mac", "arm64" if machine.architecture == "arm64" else "x64")
        return
    if machine.uefi != "no":
        architecture = _firmware_architecture(machine)
        for each in [architecture] if architecture else list(NAMES):
            is_certain = machine.uefi == "yes" and bool(architecture)
            if machine.secure_boot == "on":
                yield _Way("uefi", each, True, is_certain)
            elif machine.secure_boot is None and machine.uefi is not None:
                yield _Way("uefi", each, True, False)
                yield _Way("uefi", each, False, False)
            else:
                yield _Way("uefi", each, False, is_certain)
    if machine.bios != "no" and machine.architecture != "arm64":
        yield _Way("bios", is_certain=machine.bios == "yes")


def _firmware_architecture(machine: MachineFacts) -> str:
    """Return what UEFI loaders have to be made for; '' where it is not known."""
    if machine.architecture == "arm64":
        return "arm64"
    if machine.uefi_width == 32:
        return "x86"
    return "x64" if machine.uefi_width == 64 and machine.architecture else ""
