"""`build --batch`: the rows shown, confirmed, and the result of each."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct

from ..common.errors import KeystoneError, UsageError
from ..common.outputs import OutputKind, refuse_output, write_output
from ..common.units import counted, exact_size, shown_size
from .brief import show_verdicts
from .choosing import answered
from .confirming import confirm_all
from .manner import manner
from .options import SourcePlace, replacing_of
from .pace import shown_seconds
from .show import Column, console, emit_json, heading, paragraph, styled, table
from .stages import Stages, tell

if TYPE_CHECKING:
    from ..common.outputs import Replacing
    from ..doing.batch import Batch, Entry
    from ..doing.jobs import DriveJob, How, Pair
    from ..doing.work import Work
    from ..families.choices import Choices
    from ..fetching.link import Place
    from ..sources.source import Source
    from ..starting.outlook import Outlook
    from .shop_documents import BatchRowBody

_STYLES = {"done": "good", "already built": "good", "interrupted": "warn"}


class _Terminal(Struct, frozen=True):
    """What a batch is shown on, and confirmed at."""

    yes: bool

    def place(self, text: str) -> Place:
        return SourcePlace().convert(text, None, None)

    def stages(self) -> Stages:
        return Stages()

    def answered(self, source: Source, choices: Choices) -> Choices:
        return answered(source, choices)

    def confirm(self, job: DriveJob, pairs: Sequence[Pair], opened: Source) -> None:
        confirm_all(job, pairs, opened, yes=self.yes)

    def show_rows(self, entries: Sequence[Entry], passes: int) -> None:
        _show_start(entries, passes)

    def show_pass(self, number: int, count: int, entries: Sequence[Entry]) -> None:
        if not manner().as_json and not manner().quiet:
            heading(console(), f"Pass {number} of {count}: {', '.join(entry.name for entry in entries)}")


def build_batch(batch: Batch, path: Path, how: How, report: Path | None, *, yes: bool, overwrite: bool) -> int:
    """Build every row's drive, report each result, and return the exit code: the highest of all rows."""
    replacing = replacing_of(overwrite, path)
    if report is not None:
        if report.suffix.lower() not in (".csv", ".json"):
            raise UsageError(f"{report.name}: a report of a batch is .csv or .json.", advice="Choose one of them.")
        refuse_output(report, OutputKind.BATCH, replacing)
    entries = batch.run(path, how, _Terminal(yes))
    bodies = [_body(entry) for entry in entries]
    _tell(path, bodies, _written(report, bodies, replacing))
    return max(entry.exit_code for entry in entries)


def _show_start(entries: Sequence[Entry], passes: int) -> None:
    """List the rows before anybody is asked."""
    if manner().as_json or manner().quiet:
        return
    out = console()
    waiting = sum(entry.waits for entry in entries)
    rest = f"{waiting} to build in {counted(passes, 'pass', 'passes')}" if waiting else "nothing to build"
    heading(out, f"Batch of {counted(len(entries), 'drive')}: {rest}")
    columns = [Column("Line", right=True), Column("Drive"), Column("From", folds=True), Column("Preset")]
    table(out, [*columns, Column("Label"), Column("", folds=True)], [_planned(entry) for entry in entries])
    for names, forecast in _forecasts(entries):
        heading(out, f"Starts on ({', '.join(names)})" if names else "Starts on")
        show_verdicts(forecast)


def _forecasts(entries: Sequence[Entry]) -> list[tuple[list[str], Sequence[Outlook]]]:
    """Return each forecast with the drives that it is for; without them where it is for all."""
    found: dict[tuple[Outlook, ...], list[str]] = {}
    for entry in entries:
        if entry.wanted is not None:
            found.setdefault(tuple(entry.wanted.plan.forecast), []).append(entry.name)
    return [(names if len(found) > 1 else [], forecast) for forecast, names in found.items()]


def _planned(entry: Entry) -> tuple[str, ...]:
    plan, row = entry.wanted.plan if entry.wanted else None, entry.row
    state = entry.failure.message if entry.failure else "already built" if entry.is_built else ""
    size = exact_size(plan.drive.size) if plan is not None and plan.drive.size else ""
    return str(row.line), entry.name, entry.origin, row.preset, entry.label or row.label, state or size


def _body(entry: Entry) -> BatchRowBody:
    from .shop_documents import BatchRowBody

    error, work, chosen = entry.error, entry.work, entry.chosen
    result = work.result if work is not None else None
    drive = chosen.drive if chosen is not None else None
    return BatchRowBody(
        line=entry.row.line,
        drive=chosen.name if chosen is not None else entry.row.drive,
        model=drive.model if drive else "",
        serial=drive.serial if drive else "",
        source=entry.origin,
        preset=entry.row.preset,
        label=entry.label or entry.row.label,
        result=entry.result,
        exit_code=entry.exit_code,
        bytes_written=result.bytes_written if result is not None else 0,
        seconds=round(entry.seconds, 1),
        message=error.message if error is not None else _remarks(work),
        advice=error.advice if error is not None else "",
    )


def _remarks(work: Work | None) -> str:
    """Return what is to be said of a drive that was written: its faults, machines that will not start it, and notes."""
    if work is None:
        return ""
    findings = work.report.findings if work.report is not None else []
    refusals = [f"{machine} will not start it." for machine in work.report.refused_by] if work.report else []
    return " ".join([*(each.what for each in findings if each.level == "fault"), *refusals, *work.notes])


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
                styled(body.result, _STYLES.get(body.result, "bad")),
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
