"""What a check found, in words that say what to do."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from ..planning.plan import Outlook

Level = Literal["fault", "used", "note"]
"""fault: something is wrong; used: changed by a host that used the healthy drive; note: worth knowing."""


@dataclass(frozen=True)
class Finding:
    """One thing found."""

    level: Level
    area: str
    """table, manifest, boot sectors, FAT, file table, log, cluster map, folders, files or start."""
    what: str
    advice: str = ""


@dataclass(frozen=True)
class VolumeSummary:
    """A volume in short. Sizes in bytes."""

    file_system: str
    label: str
    offset: int
    file_count: int
    folder_count: int
    free: int


@dataclass
class Report:
    """The result of a check."""

    findings: list[Finding] = field(default_factory=list)
    built_from: str = ""
    """Name of the source by the manifest; '' without one."""
    built_by: str = ""
    volumes: list[VolumeSummary] = field(default_factory=list)
    """In the order they lie on the drive."""
    bytes_checked: int = 0
    """Bytes held against the manifest."""
    starts: tuple[Outlook, ...] = ()
    looked_at: list[str] = field(default_factory=list)
    """What was examined, a line each."""
    unknown: list[str] = field(default_factory=list)
    """What this check could not know, and why."""

    @property
    def healthy(self) -> bool:
        """True when nothing is wrong."""
        return not any(finding.level == "fault" for finding in self.findings)

    def fault(self, area: str, what: str, advice: str) -> None:
        """Note something that is wrong."""
        self.findings.append(Finding("fault", area, what, advice))

    def used(self, area: str, what: str) -> None:
        """Note what a host changed by using the drive."""
        self.findings.append(Finding("used", area, what))

    def note(self, area: str, what: str) -> None:
        """Note something worth knowing."""
        self.findings.append(Finding("note", area, what))
