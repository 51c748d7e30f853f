"""Hardware checks of Windows setup that can be waived, by values that its environment reads from its own registry.

The vendor does not document them, and does not support what is installed so.
"""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

from ..common.errors import UsageError
from ..common.nearest import did_you_mean

FIRST_BUILD = 22000
"""From which on setup of client editions checks the machine."""
FIRST_WITH_POPCNT = 26100
"""From which on the system itself needs POPCNT and SSE4.2, which nothing waives."""
ALL = "all"
NONE = "none"
"""No check, whatever a preset or a machine would have waived."""


class Waiver(Struct, frozen=True):
    """A check that can be left out."""

    name: str
    shown: str
    value: str
    """In the registry of the setup environment; 1 leaves the check out."""

    @property
    def command(self) -> str:
        return rf"reg add HKLM\SYSTEM\Setup\LabConfig /v {self.value} /t REG_DWORD /d 1 /f"


WAIVERS = (
    Waiver("tpm", "TPM 2.0", "BypassTPMCheck"),
    Waiver("secure-boot", "Secure Boot", "BypassSecureBootCheck"),
    Waiver("memory", "memory", "BypassRAMCheck"),
    Waiver("processor", "processor", "BypassCPUCheck"),
    Waiver("storage", "storage", "BypassStorageCheck"),
)


def waivers_of(text: str) -> tuple[Waiver, ...]:
    """Return the waivers of a list like 'tpm,memory', 'all' or 'none'. Raises UsageError for an unknown name."""
    if text.strip().lower() == NONE:
        return ()
    names = [name.strip().lower() for name in text.split(",")]
    known = [each.name for each in WAIVERS]
    for name in names:
        if name not in (*known, ALL):
            raise UsageError(
                f"--waive {text}: '{name}' is none of {', '.join(known)}.",
                advice=did_you_mean(name, [*known, ALL]) or f"Name one or more of them, {ALL} or {NONE}.",
            )
    return tuple(each for each in WAIVERS if ALL in names or each.name in names)


def waived_by(commands: Iterable[str]) -> tuple[Waiver, ...]:
    """Return the waivers that commands of an answer file set, whoever wrote it."""
    text = [command.lower() for command in commands]
    return tuple(each for each in WAIVERS if any(each.value.lower() in command for command in text))
