"""A whole piece of work on one or several opened drives: fakes are refused, drives built or updated, and looked at."""

from __future__ import annotations

import math
import secrets
from collections.abc import Callable, Sequence
from typing import Protocol

from msgspec import field
from msgspec.structs import replace

from ..building.build import claim_of, unseal
from ..building.feed import PATIENCE
from ..building.keeping import Keeper
from ..building.remote import announce, lend
from ..building.several import Job, build_all
from ..building.update import Standing, update
from ..checking.check import check_drive
from ..checking.report import Report
from ..common import places
from ..common.errors import DriveError, Interrupted, KeystoneError
from ..common.progress import Progress
from ..drives.medium import Medium, OpenMedium
from ..gauging.capacity import probe_capacity
from ..gauging.marks import Marker
from ..machine.known import KnownMachine
from ..sources.locating import naming_the_file
from ..sources.source import Source
from ..starting.trust import ANY_MACHINE, Machine


class RetryingMedium(Medium, Protocol):
    """A medium that tries again what may pass, and counts that."""

    retries: int
    opened: OpenMedium
    """What it tries again on."""


class Work(Job, kw_only=True):
    """One drive, from the moment it is open for writing. Afterwards either `result` or `error` is there."""

    medium: RetryingMedium
    source: Source
    needed: int
    """Bytes a drive must hold for its plan."""
    may_be_fake: bool
    """An image file cannot be one."""
    standing: Standing | None = None
    """What is on it, when it is to be updated."""
    machine: Machine = ANY_MACHINE
    """What the drive is to start."""
    machines: Sequence[KnownMachine] = ()
    """Those it is for: the report says of each whether it starts there."""
    quick: bool = False
    """An update may believe the drive's manifest."""
    report: Report | None = None
    notes: list[str] = field(default_factory=list)

    @property
    def exit_code(self) -> int:
        """What the program ends with when this is its only drive."""
        if self.error is not None:
            return self.error.exit_code
        return self.report.exit_code if self.report is not None else 1


def build_or_update(
    works: Sequence[Work], line: Callable[[str], Progress], *, verify: bool, resume: bool, probe: bool
) -> None:
    """Build or update every drive; each gets its own result or error. `line` gives what is told a drive's progress.

    Updates go one after the other: each drive holds something else, so each reads what it needs of the source.
    """
    to_build: list[Work] = []
    try:
        for work in works:
            work.progress = line(work.name)
            work.prove, work.give_up = work.source.prove_remote, work.source.stop_remote
            announce(work.image, work.source.remote_files)
            try:
                if work.standing is not None:
                    work.result = update(
                        work.image,
                        work.medium,
                        work.standing,
                        work.progress,
                        verify=verify,
                        quick=work.quick,
                        prove=work.prove,
                    )
                    continue
                keeper = Keeper(work.image, work.medium, work.shelf)
                if probe and work.may_be_fake and not (resume and claim_of(work.image, work.medium, keeper).size):
                    _refuse_fake(work)
                if resume:
                    lend(work.image, work.medium, keeper, work.source.remote_files, work.progress)
                to_build.append(work)
            except KeystoneError as error:
                work.error = error
        # Whoever is overtaken reads the source once more: a download that nobody wants twice.
        is_remote = any(work.source.remote_files for work in to_build)
        build_all(to_build, verify=verify, resume=resume, patience=math.inf if is_remote else PATIENCE)
    except (Interrupted, KeyboardInterrupt):
        pass  # said of each drive that was not ready
    for work in works:
        work.image = replace(work.image, regions=())  # of hundreds of thousands of extents nobody asks any more
        if work.result is None and work.error is None:
            work.error = Interrupted("Stopped before the end.", advice="Run the same command again.")
        if work.error is not None:
            work.error = naming_the_file(work.error, work.source)


def look_at(work: Work, progress: Progress, *, verified: bool) -> None:
    """Check what was written: its structure, and the way it starts. Its bytes were read back already."""
    if work.error is not None:
        return
    try:
        kept = work.shelf.get()
        sector = work.image.sector_size
        work.report = check_drive(
            work.medium,
            progress,
            sector_size=sector,
            contents=False,
            kept=kept,
            machine=work.machine,
            machines=work.machines,
        )
    except KeystoneError as error:
        work.error = error
        return
    if work.image.manifest_offset is None and not places.record():
        work.notes.append(
            "No record is kept on this computer (LUCKY_KEYSTONE_LOG=off), and the drive has no room for its manifest: "
            "later checks cannot compare it with what was written."
        )
    if not verified:
        work.report.unknown.append(
            "nothing was read back (--no-verify), so it is unknown whether the drive kept what was written."
        )


def _refuse_fake(work: Work) -> None:
    """Look whether the drive holds what it says: it is going to be erased, so marks may be written.

    Raises DriveError for a fake.
    """
    end = work.image.content_end
    unseal(work.image, work.medium)  # what is interrupted from here on is not a finished drive
    found = probe_capacity(work.medium, Marker(secrets.token_bytes(16)), lambda *_: None, written_below=end)
    words = f"{found.summary[:1].lower()}{found.summary[1:]}"
    if found.is_fake and (found.real_size or 0) < work.needed:
        raise DriveError(
            f"Drive {work.name} is a fake: {words}",
            advice="Return it to where it was bought. 'lucky-keystone gauge' measures it closely.",
        )
    if found.is_fake:
        work.notes.append(f"Careful, this drive is a fake: {words} The installer fits, but do not trust the rest.")
