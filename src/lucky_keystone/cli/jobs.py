"""The work on one or several drives of a build: guarded, confirmed, carried out, and entered in the shop's record."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from ..common.errors import KeystoneError
from ..common.units import rate
from ..doing.after import eject, tell_system
from ..doing.logged import Logged
from ..doing.targets import Chosen, guard, open_for_writing
from .confirming import confirm
from .stages import Stages

if TYPE_CHECKING:
    from ..doing.request import WantedDrive
    from ..doing.work import Work
    from ..drives.guards import Guard
    from ..planning.plan import Plan
    from ..shop.built import KeptBuild
    from ..sources.source import Source
    from ..starting.trust import Machine

    Pair = tuple[Chosen, WantedDrive]


@dataclass(frozen=True)
class How:
    """How the drives are written."""

    verify: bool
    resume: bool
    probe: bool
    quick: bool
    eject: bool


@dataclass(frozen=True)
class DriveJob:
    """A build or an update, entered in the shop's record however it ends."""

    kind: Literal["build", "update"]
    lifted: frozenset[Guard]
    others: tuple[Path, ...] = ()
    """What is read for other drives meanwhile: no drive that holds it is written."""

    def guard(self, chosen: Sequence[Chosen], sources: tuple[Path, ...]) -> None:
        """Raise ProtectError for a drive that is held back, before anything is read."""
        for each in chosen:
            with Logged(self.kind, each, only_failures=True):
                guard(each, needed=0, lifted=self.lifted, sources=(*sources, *self.others))

    def confirm(self, pairs: Sequence[Pair], opened: Source, *, yes: bool) -> None:
        """Have every drive confirmed. Raises ProtectError where one is not."""
        for each, one in pairs:
            with Logged(self.kind, each, opened, only_failures=True):
                confirm(
                    each,
                    yes=yes,
                    needed=one.plan.needed,
                    lifted=self.lifted,
                    sources=(*opened.places, *self.others),
                    will="updated to the new source" if self.kind == "update" else "erased",
                    continues=one.continues,
                )

    def carry_out(
        self,
        pairs: Sequence[Pair],
        opened: Source,
        machine: Machine,
        how: How,
        sum_of_source: str,
        left_out: Callable[[Chosen, KeystoneError], None] | None = None,
    ) -> list[Work]:
        """Write all drives, check them, and enter what became of each.

        One that cannot be opened any more ends the work before anything is written; with `left_out`, which hears why,
        only its own.
        """
        from ..doing.work import carry_out, look_at
        from ..shop.built import remember

        with ExitStack() as stack, Stages() as stages:
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
            pairs = written
            names = [work.name if len(works) > 1 else "" for work in works]
            for name, work in zip(names, works, strict=True):
                work.quick, work.machine = how.quick, machine
                stages.count_retries(name, partial(_retries, work))
            logs = [Logged(self.kind, each, opened) for each, _ in pairs]
            fingerprints = [work.image.fingerprint.hex() for work in works]
            line = stages.line if len(works) > 1 else lambda _: stages.line("")
            carry_out(works, line, verify=how.verify, resume=how.resume, probe=how.probe)
            for (each, one), work, log, fingerprint in zip(pairs, works, logs, fingerprints, strict=True):
                if work.error is None:
                    remember(fingerprint, _kept(one.plan, sum_of_source))
                look_at(work, line(work.name), verified=how.verify)
                if work.result and work.result.bytes_written and work.error is None:
                    work.notes += tell_system(each, work.medium, work.image.partitions)
                log.bytes_written = work.result.bytes_written if work.result else 0
                log.retries, log.healthy = work.medium.retries, work.exit_code == 0
                log.writing = rate(log.bytes_written, work.result.writing_seconds) if work.result else 0
                log.enter(work.error)
        for (each, _), work in zip(pairs, works, strict=True):
            if how.eject and work.error is None:
                work.notes += eject(each)
        return works

    def _opened(self, chosen: Chosen, wanted: WantedDrive, stack: ExitStack, sources: tuple[Path, ...]) -> Work:
        """Open a confirmed drive; it is closed with the stack."""
        from ..building.compose import compose_drive
        from ..doing.work import Work

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
        )


def _kept(plan: Plan, sum_of_source: str) -> KeptBuild:
    from ..fetching.link import lasting
    from ..shop.built import KeptBuild, KeptDecision

    decisions = (KeptDecision(topic=each.topic, value=each.value, reason=each.reason) for each in plan.decisions)
    return KeptBuild(source=lasting(plan.source.path), sha256=sum_of_source, decisions=tuple(decisions))


def _retries(work: Work) -> int:
    return work.medium.retries
