"""A batch of drives: what can share a pass does, and each row succeeds or fails alone."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, Literal, Protocol

from msgspec import Struct, field
from msgspec.structs import replace

from ..checking.check import check_drive
from ..common.errors import Interrupted, KeystoneError, ProtectError, UsageError
from ..common.progress import silent
from ..common.units import parse_size
from ..drives.guards import Guard
from ..families.choices import Choices
from ..fetching.link import Place
from ..fetching.remote import Terms
from ..sources.locating import naming_files
from ..sources.source import Source
from .batch_file import BatchRow, in_passes, read_batch
from .given import GivenMachines, GivenPreset, GivenSource, asked_for, is_plan_file
from .jobs import DriveJob, How, Lines, Pair
from .logged import Logged
from .request import Request, WantedDrive, built_before, open_requested, plan_all, with_saved_plan
from .targets import Chosen, choose, reading
from .work import Work

Result = Literal["done", "already built", "faults", "failed", "refused", "interrupted"]


class Stage(Lines, Protocol):
    """What shows progress, of one thing or of several drives."""

    def __call__(self, stage: str, done: int, total: int) -> None: ...


class BatchFront(Protocol):
    """What a batch asks of whoever started it."""

    def place(self, text: str) -> Place:
        """Return the source that a row names: a path, a name in the store, or a link."""

    def stages(self) -> AbstractContextManager[Stage]:
        """Show progress while the block runs."""

    def answered(self, source: Source, choices: Choices) -> Choices:
        """Return choices with what the source has open, asked for where somebody can be asked."""

    def confirm(self, job: DriveJob, pairs: Sequence[Pair], opened: Source) -> None:
        """Have drives confirmed. Raises ProtectError where one is not."""

    def show_rows(self, entries: Sequence[Entry], passes: int) -> None:
        """Show what is going to be done."""

    def show_pass(self, number: int, count: int, entries: Sequence[Entry]) -> None:
        """Show that a pass begins."""


class Entry(Struct):
    """A row, and how far it came."""

    row: BatchRow
    chosen: Chosen | None = None
    request: Request | None = None
    opened: Source | None = None
    wanted: WantedDrive | None = None
    work: Work | None = None
    is_built: bool = False
    label: str = ""
    """Of the drive's main volume, as decided."""
    failure: KeystoneError | None = None
    """What kept it from being built."""
    seconds: float = 0.0

    @property
    def waits(self) -> bool:
        """True while it is to be built."""
        return self.failure is None and not self.is_built and self.work is None

    @property
    def name(self) -> str:
        """The drive's tag and model, or what the row says."""
        chosen = self.chosen
        return (
            self.row.drive if chosen is None else f"{chosen.name} {chosen.drive.model if chosen.drive else ''}".strip()
        )

    @property
    def origin(self) -> str:
        """What it is built from."""
        if self.row.source or self.row.plan:
            return self.row.source or self.row.plan
        return self.request.path.name if self.request is not None else ""

    @property
    def error(self) -> KeystoneError | None:
        """What went wrong, before it was written or then."""
        return self.failure or (self.work.error if self.work is not None else None)

    @property
    def result(self) -> Result:
        error = self.error
        if error is None:
            return "already built" if self.is_built else "faults" if self.exit_code else "done"
        if isinstance(error, Interrupted):
            return "interrupted"
        return "refused" if isinstance(error, ProtectError | UsageError) else "failed"

    @property
    def exit_code(self) -> int:
        if self.failure is not None:
            return self.failure.exit_code
        return self.work.exit_code if self.work is not None else 0

    @property
    def source(self) -> Source:
        """The source of a row that was planned."""
        assert self.opened is not None
        return self.opened

    @property
    def pair(self) -> Pair:
        """The drive and what it is to become, of a row that was planned."""
        assert self.chosen is not None
        assert self.wanted is not None
        return self.chosen, self.wanted


class Batch(Struct, frozen=True, kw_only=True):
    """What is the same for all rows; a row's own values come before it."""

    choices: Mapping[str, Any]
    """By name."""
    preset: GivenPreset
    machines: GivenMachines
    given: GivenSource
    terms: Terms
    source: Place | None
    """Of rows that name none."""
    size: int | None
    """Bytes of image files to be made."""
    bay: Path | None
    sector_size: int | None
    lifted: frozenset[Guard]
    _sources: dict[str, Source | KeystoneError] = field(default_factory=dict)

    def run(self, path: Path, how: How, front: BatchFront) -> list[Entry]:
        """Build every row's drive. Raises UsageError for a file that is not a batch, or whose rows collide."""
        entries, folder = [Entry(row) for row in read_batch(path)], path.absolute().parent
        _each(entries, lambda entry: self._choose(entry, folder, front))
        _refuse_twice(path, entries)
        job = DriveJob("build", self.lifted, (*_read_by(entries), *self.given.read_beside))
        _each(entries, lambda entry: self._plan(entry, job, how, front))
        _refuse_chain(path, entries)  # once more: the sources of plans are known now
        job = replace(job, others=(*_read_by(entries), *self.given.read_beside))
        passes = in_passes([entry for entry in entries if entry.waits and entry.wanted], _shared)
        front.show_rows(entries, len(passes))
        _each(
            [entry for each in passes for entry in each], lambda entry: front.confirm(job, [entry.pair], entry.source)
        )
        _write_all(passes, job, how, front)
        for entry in entries:
            if entry.waits:
                entry.failure = Interrupted("Stopped before it was begun.", advice="Run the same command again.")
        return entries

    def _choose(self, entry: Entry, folder: Path, front: BatchFront) -> None:
        """Find the row's drive, and what is asked for it."""
        row = entry.row
        place = _beside(row.source or row.plan, folder, front) if row.source or row.plan else self.source
        if place is None:
            raise UsageError(f"Line {row.line} names no source.", advice="Fill in 'source' or 'plan', or give SOURCE.")
        of_plan = is_plan_file(place)
        if row.plan and not of_plan:
            raise UsageError(f"Line {row.line}: {row.plan} is not a plan file (.toml).", advice="Put it into 'source'.")
        files = tuple(folder / name.strip() for name in row.machine.split(";") if name.strip())
        known = asked_for(
            {**self.choices, **({"label": row.label} if row.label else {})},
            replace(self.preset, name=row.preset or self.preset.name),
            replace(self.machines, files=(*self.machines.files, *files)),
            of_plan=of_plan,
        )
        size = parse_size(row.size) if row.size else self.size
        entry.request = with_saved_plan(Request.of(place, known, self.given, self.terms, size), several=True)
        saved = entry.request.saved
        drive = str(folder / row.drive) if _is_file_name(row.drive) else row.drive
        entry.chosen = choose(drive, self.bay, self.sector_size or (saved.drive.sector_size if saved else None))

    def _plan(self, entry: Entry, job: DriveJob, how: How, front: BatchFront) -> None:
        """Open the row's source, once for all rows that have it, and decide."""
        chosen, request = entry.chosen, entry.request
        assert chosen is not None
        assert request is not None
        job.guard([chosen], tuple(each for each in request.further if isinstance(each, Path)))
        with Logged("build", chosen, only_failures=True):
            entry.opened = opened = self._opened(request, front)
            with naming_files(opened):
                entry.request = request = replace(request, choices=front.answered(opened, request.choices))
                plan = built_before(request, opened, chosen) if how.resume else None
                entry.is_built = plan is not None and _is_healthy(chosen)
                if not entry.is_built:
                    (entry.wanted,) = plan_all(request, opened, [chosen])
                    plan = entry.wanted.plan
        entry.label = (plan.choices.label if plan is not None else None) or ""

    def _opened(self, request: Request, front: BatchFront) -> Source:
        key = str(request.path)
        if key not in self._sources:
            try:
                with front.stages() as stages:
                    self._sources[key] = open_requested(request, stages)
            except KeystoneError as error:
                self._sources[key] = error
        found = self._sources[key]
        if isinstance(found, KeystoneError):
            raise found
        return found


def _each(entries: Sequence[Entry], step: Callable[[Entry], None]) -> None:
    """Do a step of all rows that have not failed yet; what goes wrong is the row's own."""
    for entry in entries:
        if not entry.waits:
            continue
        began = time.monotonic()
        try:
            step(entry)
        except KeystoneError as error:
            entry.failure = error
        entry.seconds += time.monotonic() - began


def _write_all(passes: Sequence[Sequence[Entry]], job: DriveJob, how: How, front: BatchFront) -> None:
    """Write pass after pass, until one is interrupted."""
    for number, each in enumerate(passes, 1):
        waiting = [entry for entry in each if entry.waits]
        if waiting:
            front.show_pass(number, len(passes), waiting)
            _write(waiting, job, how, front)
        if any(entry.result == "interrupted" for entry in waiting):
            return


def _write(entries: Sequence[Entry], job: DriveJob, how: How, front: BatchFront) -> None:
    """Write the drives of one pass."""
    opened, request = entries[0].source, entries[0].request
    assert request is not None
    by_path = {entry.pair[0].path: entry for entry in entries}

    def left_out(chosen: Chosen, error: KeystoneError) -> None:
        by_path[chosen.path].failure = error

    began, proof = time.monotonic(), opened.sha256 or request.terms.sha256
    with front.stages() as stages:
        works = job.run([entry.pair for entry in entries], opened, request.machine, how, proof, stages, left_out)
    for entry, work in zip([entry for entry in entries if entry.failure is None], works, strict=True):
        entry.work = work
    for entry in entries:
        entry.seconds += time.monotonic() - began


def _is_file_name(drive: str) -> bool:
    """Tell an image file's name from a tag and a device."""
    return not Path(drive).is_absolute() and not drive.startswith("\\\\.\\") and len(drive) != 4


def _beside(text: str, folder: Path, front: BatchFront) -> Place:
    """Return where a row's source is: a path beside the batch, or what else the words mean."""
    beside = folder / text
    return beside if beside.exists() else front.place(text)


def _refuse_twice(path: Path, entries: Sequence[Entry]) -> None:
    """Raise UsageError where two rows have one drive, before anything is written."""
    lines: dict[Path, int] = {}
    for entry in entries:
        if entry.chosen is None:
            continue
        place = entry.chosen.path.resolve()
        if place in lines:
            raise UsageError(
                f"{path}: lines {lines[place]} and {entry.row.line} have the same drive, {entry.chosen.name}.",
                advice="Give each row a drive of its own.",
            )
        lines[place] = entry.row.line
    _refuse_chain(path, entries)


def _refuse_chain(path: Path, entries: Sequence[Entry]) -> None:
    """Raise UsageError where a row is built from what another one writes."""
    lines = {entry.chosen.path.resolve(): entry.row.line for entry in entries if entry.chosen is not None}
    for entry in entries:
        for source in _read_by([entry]):
            if line := lines.get(source.resolve()):
                raise UsageError(
                    f"{path}: line {entry.row.line} reads what line {line} writes, {source.name}.",
                    advice="Build from that drive in a batch of its own.",
                )


def _read_by(entries: Sequence[Entry]) -> tuple[Path, ...]:
    """Return the files and folders that rows are built from, as far as they are known."""
    found: set[Path] = set()
    for entry in entries:
        found |= set(entry.opened.places) if entry.opened is not None else set()
        if entry.request is not None and isinstance(entry.request.path, Path):
            found.add(entry.request.path)
    return tuple(sorted(found))


def _is_healthy(chosen: Chosen) -> bool:
    """Look at the structure of a drive that is built already; its bytes are not read again."""
    with reading(chosen) as medium:
        return not check_drive(medium, silent, contents=False, kept=chosen.shelf().get()).exit_code


def _shared(entry: Entry) -> tuple[object, Choices]:
    """Return what rows of one pass have in common."""
    return (id(entry.opened), entry.row.preset), entry.pair[1].plan.choices
