"""Whether a machine starts a drive: of the rows of a forecast those that its firmware is."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from ..starting.mac import INTEL, SILICON
from ..starting.outlook import Outlook, Verdict
from ..starting.uefi import NAMES, SECURE
from .facts import MachineFacts

_MAC = re.compile(r"[A-Za-z]+\d+,\d+")
"""Models of Macs, as MacBookPro14,1."""


@dataclass(frozen=True)
class MachineOutlook:
    """What becomes of a drive on one machine."""

    machine: str
    verdict: Verdict
    by: str
    """The row of the forecast that decides it: 'UEFI 64-bit, Secure Boot'; '' where none fits."""
    reason: str


def outlook_for(machine: MachineFacts, rows: Sequence[Outlook]) -> MachineOutlook:
    """Return the best of the ways on which a machine can start a drive, those that are certain before all others."""
    by_name = {row.firmware: row for row in rows}
    ways = [(by_name[name], is_certain) for name, is_certain in _ways(machine) if name in by_name]
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


def _ways(machine: MachineFacts) -> Iterator[tuple[str, bool]]:
    """Yield names of rows by which a machine may start, and whether it is certain that it can."""
    if _MAC.fullmatch(machine.model):
        yield (SILICON if machine.architecture == "arm64" else INTEL), True
        return
    if machine.uefi != "no":
        architecture = _firmware_architecture(machine)
        for each in [architecture] if architecture else list(NAMES):
            plain, certain = NAMES[each], machine.uefi == "yes" and architecture is not None
            if machine.secure_boot == "on":
                yield plain + SECURE, certain
            elif machine.secure_boot is None and machine.uefi is not None:
                yield plain + SECURE, False
                yield plain, False
            else:
                yield plain, certain
    if machine.bios != "no" and machine.architecture != "arm64":
        yield "BIOS", machine.bios == "yes"


def _firmware_architecture(machine: MachineFacts) -> str:
    """Return what UEFI loaders have to be made for; '' where it is not known."""
    if machine.architecture == "arm64":
        return "arm64"
    if machine.uefi_width == 32:
        return "x86"
    return "x64" if machine.uefi_width == 64 and machine.architecture else ""
