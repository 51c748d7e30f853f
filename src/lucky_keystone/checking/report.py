"""What a check found, in words that say what to do, and in codes for programs."""

from __future__ import annotations

from collections.abc import Collection
from typing import Literal

from msgspec import Struct, field
from msgspec.structs import replace

from ..machine.outlook import MachineOutlook
from ..starting.outlook import Outlook
from .codes import Code

Level = Literal["fault", "start", "used", "note"]
"""fault: something is wrong; start: healthy, but some firmware will not start it.

Used: changed by a computer that used the healthy drive; note: worth knowing.
"""


class Place(Struct, frozen=True):
    """What a finding refers to, as far as it can be named."""

    volume: int | None = None
    """Number of its partition."""
    offset: int | None = None
    """First byte on the drive."""
    size: int | None = None
    """Bytes."""
    file: str = ""
    """Path on the volume."""


NOWHERE = Place()
_NOT_KEPT = (
    *(Code.CONTENT_CHANGED, Code.CONTENT_FILE, Code.CONTENT_RECORDS, Code.CONTENT_IMAGE),
    *(Code.MANIFEST_DAMAGED, Code.EXFAT_MEDIA_FAILURE),
)


class Finding(Struct, frozen=True):
    """One thing found."""

    level: Level
    code: Code
    area: str
    """drive, table, manifest, boot sectors, FAT, MFT, log, allocation bitmap, folders, files, image or start."""
    what: str
    advice: str = ""
    place: Place = NOWHERE
    firmware: Literal["bios", "uefi", ""] = ""
    """Which firmware alone misses it; a fault where the drive is to start there."""


class VolumeSummary(Struct, frozen=True):
    """A volume in short. Sizes in bytes."""

    file_system: str
    label: str
    offset: int
    file_count: int
    folder_count: int
    free: int


class Report(Struct):
    """The result of a check."""

    findings: list[Finding] = field(default_factory=list)
    built_from: str = ""
    """Name of the source by the manifest; '' without one."""
    built_by: str = ""
    volumes: list[VolumeSummary] = field(default_factory=list)
    """In the order they lie on the drive."""
    bytes_checked: int = 0
    """Bytes compared with the manifest."""
    starts: tuple[Outlook, ...] = ()
    on_machines: tuple[MachineOutlook, ...] = ()
    """On each machine that was given."""
    looked_at: list[str] = field(default_factory=list)
    """What was examined, a line each."""
    unknown: list[str] = field(default_factory=list)
    """What this check could not know, and why."""

    @property
    def healthy(self) -> bool:
        """True when nothing is wrong."""
        return not any(finding.level == "fault" for finding in self.findings)

    @property
    def exit_code(self) -> int:
        """What the program ends with: 1 when something is wrong, or where it is to start and will not."""
        starts_nowhere = any(finding.code == Code.START_NOTHING for finding in self.findings)
        return 0 if self.healthy and not starts_nowhere and not self.refused_by else 1

    @property
    def blames_drive(self) -> bool:
        """True where the drive did not keep what was written onto it."""
        return any(each.level == "fault" and each.code in _NOT_KEPT for each in self.findings)

    @property
    def refused_by(self) -> list[str]:
        """The machines that were given and will not start it."""
        return [each.machine for each in self.on_machines if each.verdict == "will not start"]

    def fault(self, code: Code, area: str, what: str, advice: str, place: Place = NOWHERE) -> None:
        """Note something that is wrong."""
        self.findings.append(Finding("fault", code, area, what, advice, place))

    def start(
        self,
        code: Code,
        what: str,
        advice: str,
        place: Place = NOWHERE,
        *,
        firmware: Literal["bios", "uefi", ""] = "",
        area: str = "start",
    ) -> None:
        """Note why some firmware will not start a healthy drive."""
        self.findings.append(Finding("start", code, area, what, advice, place, firmware))

    def demand(self, firmware: Collection[str]) -> None:
        """Make faults of what keeps the drive from starting on firmware that it is to start on."""
        self.findings = [
            replace(found, level="fault") if found.level == "start" and found.firmware in firmware else found
            for found in self.findings
        ]

    def used(self, area: str, what: str, place: Place = NOWHERE) -> None:
        """Note what a computer changed by using the drive."""
        self.findings.append(Finding("used", Code.CONTENT_USED, area, what, "", place))

    def note(self, code: Code, area: str, what: str, place: Place = NOWHERE) -> None:
        """Note something worth knowing."""
        self.findings.append(Finding("note", code, area, what, "", place))
