"""The work on one or several drives of a build: guarded, carried out, and entered in the shop's record."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from functools import partial
from pathlib import Path
from typing import Literal, Protocol

from msgspec import Struct

from ..building.compose import compose_drive
from ..common.errors import DriveError, KeystoneError
from ..common.progress import Progress
from ..common.units import rate, shown_size
from ..drives.guards import Guard
from ..fetching.link import lasting
from ..planning.plan import Plan
from ..shop.built import KeptBuild, KeptDecision, remember
from ..sources.source import Source
from ..starting.trust import Machine
from .after import eject, tell_system
from .logged import Logged
from .request import WantedDrive
from .targets import Chosen, guard, open_for_writing
from .work import Work, build_or_update, look_at

Pair = tuple[Chosen, WantedDrive]


class Lines(Protocol):
    """What is called with the progress of several drives."""

    def line(self, name: str) -> Progress:
        """Return what to call with the progress of the drive `name`; '' for the only one."""

    def count_retries(self, name: str, count: Callable[[], int]) -> None:
        """Ask `count` how often something had to be tried again, whenever the work of `name` is shown."""


class How(Struct, frozen=True):
    """How the drives are written."""

    verify: bool
    resume: bool
    probe: bool
    quick: bool
    eject: bool


class DriveJob(Struct, frozen=True):
    """A build or an update, entered in the shop's record however it ends."""

    kind: Literal["build", "update"]
    lifted: frozenset[Guard]
    others: tuple[Path, ...] = ()
    """What is read for other drives meanwhile: no drive that holds it is written."""

    @property
    def will(self) -> str:
        """What happens to what is on a drive."""
        return "updated to the new source" if self.kind == "update" else "erased"

    def guard(self, chosen: Sequence[Chosen], sources: tuple[Path, ...]) -> None:
        """Raise ProtectError for a drive that is held back, before anything is read."""
        for each in chosen:
            with Logged(self.kind, each, only_failures=True):
                guard(each, needed=0, lifted=self.lifted, sources=(*sources, *self.others))

    def run(
        self,
        pairs: Sequence[Pair],
        opened: Source,
        machine: Machine,
        how: How,
        sum_of_source: str,
        lines: Lines,
        left_out: Callable[[Chosen, KeystoneError], None] | None = None,
    ) -> list[Work]:
        """Write all drives, check them, and enter the result of each.

        One that cannot be opened any more ends the work before anything is written; with `left_out` (called with the
        error), only that drive is skipped.
        """
        with ExitStack() as stack:
            works: list[Work] = []
            written: list[Pair] = []
            for each, one in pairs:
                try:
                    with Logged(self.kind, each, opened, only_failures=True):
                        works.append(self._opened(each, one, stack, (*opened.places, *self.others)))
                    written.append((each, one))
                except KeystoneError as error:
                    if left_out is None:
                        raise
                    left_out(each, error)
            for work in works:
                work.quick, work.machine = how.quick, machine
            self._write(written, works, how, lines, sum_of_source)
        for (each, _), work in zip(written, works, strict=True):
            if how.eject and work.error is None:
                work.notes += eject(each)
        return works

    def _write(self, pairs: Sequence[Pair], works: Sequence[Work], how: How, lines: Lines, sum_of_source: str) -> None:
        """Write opened drives, look at them, and enter each."""
        shown = {work.name: work.name if len(works) > 1 else "" for work in works}
        for work in works:
            lines.count_retries(shown[work.name], partial(_retries, work))
        logs = [Logged(self.kind, each, work.source) for (each, _), work in zip(pairs, works, strict=True)]
        fingerprints = [work.image.fingerprint.hex() for work in works]
        line = {name: lines.line(shown) for name, shown in shown.items()}
        build_or_update(works, line.__getitem__, verify=how.verify, resume=how.resume, probe=how.probe)
        for (each, one), work, log, fingerprint in zip(pairs, works, logs, fingerprints, strict=True):
            if work.error is None:
                remember(fingerprint, _kept(one.plan, sum_of_source))
            look_at(work, line[work.name], verified=how.verify)
            written = work.result.bytes_written if work.result else 0
            if work.result and written and work.error is None:
                work.notes += tell_system(each, work.medium, work.image.partitions)
            log.bytes_written, log.retries, log.healthy = written, work.medium.retries, work.exit_code == 0
            log.blamed = work.report is not None and work.report.blames_drive
            log.writing = rate(written, work.result.writing_seconds) if work.result else 0
            log.enter(work.error)

    def _opened(self, chosen: Chosen, wanted: WantedDrive, stack: ExitStack, sources: tuple[Path, ...]) -> Work:
        """Open a confirmed drive; it is closed with the stack."""
        plan = wanted.plan
        image = compose_drive(plan)
        medium = open_for_writing(
            chosen, image.size, plan.needed, lifted=self.lifted, sources=sources, stored=image.most_stored
        )
        stack.callback(medium.close)
        if wanted.standing is None:  # whatever marks overwrote is not wanted any more
            chosen.journal().clear()
        return Work(
            name=chosen.name,
            source=plan.source,
            image=image,
            medium=medium,
            shelf=chosen.shelf(),
            needed=plan.needed,
            may_be_fake=chosen.drive is not None,
            standing=wanted.standing,
            machines=wanted.machines,
        )


def refuse_no_space(pairs: Sequence[Pair]) -> None:
    """Raise DriveError where the disk under new image files has too little free space for them, all together."""
    wanted: dict[int, int] = {}
    for chosen, one in pairs:
        if not chosen.is_image_file or chosen.exists:
            continue
        folder, size = chosen.path.absolute().parent, one.plan.drive.size or 0
        free = shutil.disk_usage(folder).free
        disk = folder.stat().st_dev
        if wanted.get(disk, 0) + size > free:  # holes take nothing, but to know them the drive has to be composed
            size = compose_drive(one.plan).most_stored
        wanted[disk] = wanted.get(disk, 0) + size
        if wanted[disk] > free:
            raise DriveError(
                f"{folder} has {shown_size(free)} free, and up to {shown_size(wanted[disk])} will be written there.",
                advice="Make room there, name a smaller --size, or choose a place on another disk.",
            )


def _kept(plan: Plan, sum_of_source: str) -> KeptBuild:
    decisions = (KeptDecision(topic=each.topic, value=each.value, reason=each.reason) for each in plan.decisions)
    return KeptBuild(source=lasting(plan.source.path), sha256=sum_of_source, decisions=tuple(decisions))


def _retries(work: Work) -> int:
    return work.medium.retries
