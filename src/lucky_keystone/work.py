"""A whole piece of work on one or several opened drives: fakes are refused, drives built or updated, and looked at."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from .building.build import BuildResult, claimed_bytes
from .building.compose import DriveImage
from .building.several import Job, build_all
from .building.update import Standing, update
from .checking.check import check_drive
from .checking.report import Report
from .content import Tell
from .drives.retrying import Retrying
from .errors import DriveError, Interrupted, KeystoneError
from .gauging.capacity import probe_capacity
from .gauging.marks import Marker


@dataclass
class Work:
    """One drive, from the moment it is open for writing. Afterwards either `result` or `error` is there."""

    name: str
    image: DriveImage
    medium: Retrying
    needed: int
    """Bytes a drive must hold for its plan."""
    may_be_fake: bool
    """An image file cannot be one."""
    standing: Standing | None = None
    """What is on it, when it is to be updated."""
    result: BuildResult | None = None
    report: Report | None = None
    error: KeystoneError | None = None
    fell_back: bool = False
    """It was too slow for the others and went on in a pass of its own."""
    notes: list[str] = field(default_factory=list)

    @property
    def exit_code(self) -> int:
        """What the program ends with when this is its only drive."""
        if self.error is not None:
            return self.error.exit_code
        return 0 if self.report is not None and self.report.healthy else 1


def carry_out(works: Sequence[Work], line: Callable[[str], Tell], *, verify: bool, resume: bool, probe: bool) -> None:
    """Build or update every drive; each gets its own result or error. `line` gives what hears of a drive's progress.

    Updates go one after the other: each drive holds something else, so each reads what it needs of the source.
    """
    jobs: list[tuple[Work, Job]] = []
    try:
        for work in works:
            tell = line(work.name)
            try:
                if work.standing is not None:
                    work.result = update(work.image, work.medium, work.standing, tell, verify=verify)
                    continue
                if probe and work.may_be_fake and not (resume and claimed_bytes(work.image, work.medium)):
                    _refuse_fake(work)
                jobs.append((work, Job(work.name, work.image, work.medium, tell)))
            except KeystoneError as error:
                work.error = error
        build_all([job for _, job in jobs], verify=verify, resume=resume)
    except (Interrupted, KeyboardInterrupt):
        pass  # told of for each drive that was not ready
    for work, job in jobs:
        work.result, work.error, work.fell_back = job.result, work.error or job.error, job.fell_back
    for work in works:
        if work.result is None and work.error is None:
            work.error = Interrupted("Stopped before the end.", advice="Run the same command again.")


def look_at(work: Work, tell: Tell, *, verified: bool) -> None:
    """Check what was written: its structure, and the way it starts. Its bytes were read back already."""
    if work.error is not None:
        return
    try:
        work.report = check_drive(work.medium, tell, sector_size=work.image.sector_size, contents=False)
    except KeystoneError as error:
        work.error = error
        return
    if not verified:
        work.report.unknown.append(
            "Nothing was read back (--no-verify): whether the drive kept what was written is not known."
        )


def _refuse_fake(work: Work) -> None:
    """Look whether the drive holds what it says: it is going to be erased, so marks may be written.

    Raises DriveError for a fake.
    """
    end = max(region.offset + region.size for region in work.image.regions)
    found = probe_capacity(work.medium, Marker(secrets.token_bytes(16)), lambda *_: None, written_below=end)
    told = f"{found.told[:1].lower()}{found.told[1:]}"
    if found.is_fake and (found.real_size or 0) < work.needed:
        raise DriveError(
            f"Drive {work.name} is a fake: {told}",
            advice="Give it back to where it was bought. 'lucky-keystone gauge' measures it closely.",
        )
    if found.is_fake:
        work.notes.append(f"Careful, this drive is a fake: {told} The installer fits, but do not trust the rest.")
