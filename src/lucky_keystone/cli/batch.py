"""`build --batch`: many drives from a CSV file; what can share a pass does, and each row succeeds or fails alone."""

from __future__ import annotations

import csv
import io
import time
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import msgspec
from rich.text import Text

from ..common.errors import Interrupted, KeystoneError, ProtectError, UsageError
from ..common.outputs import OutputKind, refuse_output, write_output
from ..common.units import counted, exact_size, parse_size, shown_size
from ..doing.logged import Logged
from ..doing.targets import Chosen, choose, reading
from .jobs import DriveJob, How
from .manner import manner
from .options import SourcePlace, asked_for, replacing_of
from .pace import shown_seconds
from .show import Column, console, emit_json, heading, paragraph, table
from .stages import Stages, tell

if TYPE_CHECKING:
    from ..common.outputs import Replacing
    from ..doing.batch import BatchRow
    from ..doing.request import Request, WantedDrive
    from ..doing.work import Work
    from ..drives.guards import Guard
    from ..families.choices import Choices
    from ..fetching.link import Place
    from ..sources.source import Source
    from .shop_documents import BatchRowBody

Result = Literal["done", "already built", "faults", "failed", "refused", "interrupted"]
_STYLES = {"done": "good", "already built": "good", "interrupted": "warn"}


@dataclass
class _Entry:
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
    error: KeystoneError | None = None
    seconds: float = 0.0

    @property
    def waits(self) -> bool:
        """True while it is to be built."""
        return self.error is None and not self.is_built and self.work is None

    @property
    def result(self) -> Result:
        error = self.error or (self.work.error if self.work is not None else None)
        if error is None:
            return "already built" if self.is_built else "faults" if self.exit_code else "done"
        if isinstance(error, Interrupted):
            return "interrupted"
        return "refused" if isinstance(error, ProtectError | UsageError) else "failed"

    @property
    def exit_code(self) -> int:
        if self.error is not None:
            return self.error.exit_code
        return self.work.exit_code if self.work is not None else 0


@dataclass(frozen=True)
class Batch:
    """What is the same for all rows: what was given on the command line."""

    base: Request
    given: dict[str, Any]
    """Choices, --preset, --config and --machine; a row's own values come before them."""
    source: Place | None
    """Of rows that name none."""
    trust: tuple[Path, ...]
    revoked: tuple[Path, ...]
    model: str
    bay: Path | None
    sector_size: int | None
    lifted: frozenset[Guard]
    beside: tuple[Path, ...]
    """Files and folders that are read as well, on none of which may be written."""
    _sources: dict[str, Source | KeystoneError] = field(default_factory=dict)

    def carry_out(self, path: Path, how: How, report: Path | None, *, yes: bool, overwrite: bool) -> int:
        """Build every row's drive, tell what became of each, and return the exit code: the highest of all rows."""
        from ..doing.batch import read_batch

        replacing = replacing_of(overwrite, path)
        if report is not None:
            if report.suffix.lower() not in (".csv", ".json"):
                raise UsageError(f"{report.name}: a report of a batch is .csv or .json.", advice="Choose one of them.")
            refuse_output(report, OutputKind.BATCH, replacing)
        entries = [_Entry(row) for row in read_batch(path)]
        for entry in entries:
            self._attempt(entry, self._choose, entry, path.absolute().parent)
        _refuse_twice(path, entries)
        job = DriveJob("build", self.lifted, (*_read_by(entries), *self.beside))
        for entry in entries:
            self._attempt(entry, self._plan, entry, job, how)
        _refuse_chain(path, entries)  # once more: the sources of plans are known now
        job = replace(job, others=(*_read_by(entries), *self.beside))
        passes = _passes(entries)
        _show_start(entries, len(passes))
        for entry in (entry for each in passes for entry in each):
            self._attempt(entry, self._confirm, entry, job, yes=yes)
        for number, each in enumerate(passes, 1):
            waiting = [entry for entry in each if entry.waits]
            if not waiting:
                continue
            if not manner().as_json and not manner().quiet:
                names = ", ".join(_name(entry) for entry in waiting)
                heading(console(), f"Pass {number} of {len(passes)}: {names}")
            self._write(waiting, job, how)
            if any(entry.result == "interrupted" for entry in waiting):
                break
        for entry in entries:
            if entry.waits:
                entry.error = Interrupted("Stopped before it was begun.", advice="Run the same command again.")
        bodies = [_body(entry) for entry in entries]
        _tell(path, bodies, _written(report, bodies, replacing))
        return max(entry.exit_code for entry in entries)

    @staticmethod
    def _attempt(entry: _Entry, step: Any, *arguments: Any, **named: Any) -> None:
        """Do a step of a row that has not failed yet; what goes wrong is the row's own."""
        if not entry.waits:
            return
        began = time.monotonic()
        try:
            step(*arguments, **named)
        except KeystoneError as error:
            entry.error = error
        entry.seconds += time.monotonic() - began

    def _choose(self, entry: _Entry, folder: Path) -> None:
        """Find the row's drive, and what is asked for it."""
        from ..doing.request import is_plan_file, with_saved_plan

        row = entry.row
        drive = str(folder / row.drive) if _is_file_name(row.drive) else row.drive
        place = _place(row.source or row.plan, folder) if row.source or row.plan else self.source
        if place is None:
            raise UsageError(f"Line {row.line} names no source.", advice="Fill in 'source' or 'plan', or give SOURCE.")
        of_plan = is_plan_file(place)
        if row.plan and not of_plan:
            raise UsageError(f"Line {row.line}: {row.plan} is no plan file (.toml).", advice="Put it into 'source'.")
        given = {**self.given, "machines": (*self.given["machines"], *_machines(row, folder))}
        given |= {name: value for name in ("preset", "label") if (value := getattr(row, name))}
        known = asked_for(given, self.trust, self.revoked, self.model, of_plan=of_plan)
        asked = replace(
            self.base,
            path=place,
            choices=known.choices,
            earlier=known.earlier,
            machine=known.machine,
            machines=known.machines,
            size=parse_size(row.size) if row.size else self.base.size,
        )
        entry.request = with_saved_plan(asked, several=True)
        saved = entry.request.saved
        entry.chosen = choose(drive, self.bay, self.sector_size or (saved.drive.sector_size if saved else None))

    def _plan(self, entry: _Entry, job: DriveJob, how: How) -> None:
        """Open the row's source, once for all rows that have it, and decide."""
        from ..doing.request import built_before, plan_all
        from ..sources.locating import naming_files
        from .choosing import with_edition

        chosen, request = entry.chosen, entry.request
        assert chosen is not None
        assert request is not None
        job.guard([chosen], tuple(each for each in request.further if isinstance(each, Path)))
        with Logged("build", chosen, only_failures=True):
            entry.opened = opened = self._opened(request)
            with naming_files(opened):
                entry.request = request = replace(request, choices=with_edition(opened, request.choices))
                plan = built_before(request, opened, chosen) if how.resume else None
                entry.is_built = plan is not None and _is_healthy(chosen)
                if not entry.is_built:
                    (entry.wanted,) = plan_all(request, opened, [chosen])
                    plan = entry.wanted.plan
        entry.label = (plan.choices.label if plan is not None else None) or ""

    def _opened(self, request: Request) -> Source:
        from ..doing.request import open_requested

        key = str(request.path)
        if key not in self._sources:
            try:
                with Stages() as stages:
                    self._sources[key] = open_requested(request, stages)
            except KeystoneError as error:
                self._sources[key] = error
        found = self._sources[key]
        if isinstance(found, KeystoneError):
            raise found
        return found

    @staticmethod
    def _confirm(entry: _Entry, job: DriveJob, *, yes: bool) -> None:
        chosen, wanted, opened = entry.chosen, entry.wanted, entry.opened
        assert chosen is not None
        assert wanted is not None
        assert opened is not None
        job.confirm([(chosen, wanted)], opened, yes=yes)

    @staticmethod
    def _write(entries: Sequence[_Entry], job: DriveJob, how: How) -> None:
        """Write the drives of one pass."""
        opened, request = entries[0].opened, entries[0].request
        assert opened is not None
        assert request is not None
        pairs = [(entry.chosen, entry.wanted) for entry in entries if entry.chosen and entry.wanted]
        by_path = {chosen.path: entry for (chosen, _), entry in zip(pairs, entries, strict=True)}

        def left_out(chosen: Chosen, error: KeystoneError) -> None:
            by_path[chosen.path].error = error

        began = time.monotonic()
        works = job.carry_out(pairs, opened, request.machine, how, opened.sha256 or request.terms.sha256, left_out)
        for entry, work in zip([entry for entry in entries if entry.error is None], works, strict=True):
            entry.work = work
        for entry in entries:
            entry.seconds += time.monotonic() - began


def _is_file_name(drive: str) -> bool:
    """Tell an image file's name from a tag and a device."""
    return not Path(drive).is_absolute() and not drive.startswith("\\\\.\\") and len(drive) != 4


def _place(text: str, folder: Path) -> Place:
    """Return where a row's source is: a path beside the batch, a name in the store, or a link."""
    beside = folder / text
    return beside if beside.exists() else SourcePlace().convert(text, None, None)


def _machines(row: BatchRow, folder: Path) -> tuple[Path, ...]:
    return tuple(folder / name.strip() for name in row.machine.split(";") if name.strip())


def _refuse_twice(path: Path, entries: Sequence[_Entry]) -> None:
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


def _refuse_chain(path: Path, entries: Sequence[_Entry]) -> None:
    """Raise UsageError where a row is built from what another one writes."""
    lines = {entry.chosen.path.resolve(): entry.row.line for entry in entries if entry.chosen is not None}
    for entry in entries:
        for source in _read_by([entry]):
            if line := lines.get(source.resolve()):
                raise UsageError(
                    f"{path}: line {entry.row.line} reads what line {line} writes, {source.name}.",
                    advice="Build from that drive in a batch of its own.",
                )


def _read_by(entries: Sequence[_Entry]) -> tuple[Path, ...]:
    """Return the files and folders that rows are built from, as far as they are known."""
    found: set[Path] = set()
    for entry in entries:
        found |= set(entry.opened.places) if entry.opened is not None else set()
        if entry.request is not None and isinstance(entry.request.path, Path):
            found.add(entry.request.path)
    return tuple(sorted(found))


def _is_healthy(chosen: Chosen) -> bool:
    """Look at the structure of a drive that is built already; its bytes are not read again."""
    from ..checking.check import check_drive
    from ..common.progress import silent

    with reading(chosen) as medium:
        return not check_drive(medium, silent, contents=False, kept=chosen.shelf().get()).exit_code


def _passes(entries: Sequence[_Entry]) -> list[list[_Entry]]:
    from ..doing.batch import in_passes

    def key(entry: _Entry) -> tuple[object, Choices]:
        assert entry.wanted is not None
        return (id(entry.opened), entry.row.preset), entry.wanted.plan.choices

    return in_passes([entry for entry in entries if entry.waits and entry.wanted], key)


def _show_start(entries: Sequence[_Entry], passes: int) -> None:
    """List the rows before anybody is asked."""
    if manner().as_json or manner().quiet:
        return
    out = console()
    waiting = sum(entry.waits for entry in entries)
    rest = f"{waiting} to build in {counted(passes, 'pass', 'passes')}" if waiting else "nothing to build"
    heading(out, f"Batch of {counted(len(entries), 'drive')}: {rest}")
    columns = [Column("Line", right=True), Column("Drive"), Column("From", folds=True), Column("Preset")]
    table(out, [*columns, Column("Label"), Column("", folds=True)], [_planned(entry) for entry in entries])


def _planned(entry: _Entry) -> tuple[str, ...]:
    plan, row = entry.wanted.plan if entry.wanted else None, entry.row
    state = entry.error.message if entry.error else "already built" if entry.is_built else ""
    size = exact_size(plan.drive.size) if plan is not None and plan.drive.size else ""
    return str(row.line), _name(entry), _origin(entry), row.preset, entry.label or row.label, state or size


def _name(entry: _Entry) -> str:
    chosen = entry.chosen
    return entry.row.drive if chosen is None else f"{chosen.name} {chosen.drive.model if chosen.drive else ''}".strip()


def _origin(entry: _Entry) -> str:
    if entry.row.source or entry.row.plan:
        return entry.row.source or entry.row.plan
    return entry.request.path.name if entry.request is not None else ""


def _body(entry: _Entry) -> BatchRowBody:
    from .shop_documents import BatchRowBody

    error = entry.error or (entry.work.error if entry.work is not None else None)
    result = entry.work.result if entry.work is not None else None
    report = entry.work.report if entry.work is not None else None
    faults = [each.what for each in report.findings if each.level == "fault"] if report is not None else []
    notes = entry.work.notes if entry.work is not None else []
    drive = entry.chosen.drive if entry.chosen is not None else None
    return BatchRowBody(
        line=entry.row.line,
        drive=entry.chosen.name if entry.chosen is not None else entry.row.drive,
        model=drive.model if drive else "",
        serial=drive.serial if drive else "",
        source=_origin(entry),
        preset=entry.row.preset,
        label=entry.label or entry.row.label,
        result=entry.result,
        exit_code=entry.exit_code,
        bytes_written=result.bytes_written if result is not None else 0,
        seconds=round(entry.seconds, 1),
        message=error.message if error is not None else " ".join([*faults, *notes]),
        advice=error.advice if error is not None else "",
    )


def _csv_of(bodies: Sequence[BatchRowBody]) -> bytes:
    from ..shop.log import safe_in_table

    stream = io.StringIO(newline="")
    rows = [msgspec.structs.asdict(body) for body in bodies]
    writer = csv.DictWriter(stream, list(rows[0]))
    writer.writeheader()
    for row in rows:
        writer.writerow({name: safe_in_table(value) for name, value in row.items()})
    return stream.getvalue().encode()


def _written(report: Path | None, bodies: Sequence[BatchRowBody], replacing: Replacing) -> Path | None:
    """Write the report that is wanted; where that fails the drives are what they are, and their verdict counts."""
    if report is None:
        return None
    as_csv = report.suffix.lower() == ".csv"
    data = _csv_of(bodies) if as_csv else msgspec.json.format(msgspec.json.encode(bodies), indent=2) + b"\n"
    try:
        write_output(report, data, OutputKind.BATCH, replacing)
    except KeystoneError as error:
        tell(f"The report could not be written: {error.message} {error.advice}".strip())
        return None
    return report


def _tell(path: Path, bodies: Sequence[BatchRowBody], report: Path | None) -> None:
    if manner().as_json:
        from .shop_documents import BatchDocument

        emit_json(BatchDocument(batch=str(path), report=str(report) if report else None, rows=list(bodies)))
        return
    out = console()
    good = sum(body.exit_code == 0 for body in bodies)
    heading(out, f"{good} of {counted(len(bodies), 'drive')} ready")
    columns = [Column(), Column("Line", right=True), Column("Drive"), Column("Label"), Column("Written", right=True)]
    table(
        out,
        [*columns, Column("Time", right=True), Column("", folds=True)],
        [
            (
                Text(body.result, _STYLES.get(body.result, "bad")),
                str(body.line),
                body.drive,
                body.label,
                shown_size(body.bytes_written) if body.bytes_written else "",
                shown_seconds(body.seconds),
                " What next: ".join(filter(None, (body.message, body.advice))),
            )
            for body in bodies
        ],
    )
    if good < len(bodies):
        paragraph(out, "Run the same command again to continue: rows that are built already are left alone.")
    if report is not None:
        paragraph(out, f"Report written: {report}")
