"""The results of a build, drive by drive: as text, as JSON, and as the program's exit code."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ..common.shell import command_line
from ..common.units import shown_size
from ..starting.how import how_to_start
from .check import check_body, show_report
from .manner import manner
from .pace import shown_seconds
from .plan import plan_body
from .show import console, emit_json, heading, marked, paragraph

if TYPE_CHECKING:
    from ..building.build import BuildResult
    from ..doing.targets import Chosen
    from ..doing.work import Work
    from ..planning.plan import Plan
    from .documents import BuiltDrive


def tell_outcome(
    drives: Sequence[tuple[Chosen, Plan, Work]], proofs: list[str], *, verified: bool, seconds: float
) -> int:
    """Show the result of every drive; return the exit code. The error of a single drive is raised.

    `seconds`: how long all of it took.
    """
    works = [work for _, _, work in drives]
    if len(works) == 1 and works[0].error is not None:
        raise works[0].error
    if manner().as_json:
        _emit(drives, proofs)
        return max(work.exit_code for work in works)
    _show_all(drives, proofs, verified=verified)
    if not manner().quiet:
        console().print(f"Done in {shown_seconds(seconds)}.", style="quiet")
        finished = [(chosen, plan) for chosen, plan, work in drives if work.error is None]
        if files := [chosen for chosen, _ in finished if chosen.is_image_file]:
            _tell_where(files)
        if any(not chosen.is_image_file for chosen, _ in finished):
            _tell_how_to_start(finished[0][1])
    return max(work.exit_code for work in works)


def _show_all(drives: Sequence[tuple[Chosen, Plan, Work]], proofs: Sequence[str], *, verified: bool) -> None:
    out = console()
    for proof in proofs:
        paragraph(out, f"verified: {proof}", indent=2)
    for _, plan, work in drives:
        if len(drives) > 1:
            heading(out, work.name)
        _show(work, plan, verified=verified)


def _tell_where(files: Sequence[Chosen]) -> None:
    line = command_line(["build", str(files[0].path), "--onto", "TAG"])
    what = f"{files[0].path} is a file" if len(files) == 1 else "These are files"
    words = f"{what} on this computer. To put {'it' if len(files) == 1 else 'one'} onto a stick as it is: {line}"
    console().print()
    paragraph(console(), words, style="quiet")


def _tell_how_to_start(plan: Plan) -> None:
    out = console()
    for_macs = [volume.planned.label for volume in plan.volumes if volume.planned.kind.names_loaders]
    for words in how_to_start(plan.forecast, for_macs):
        out.print()
        paragraph(out, words, style="quiet")


def _emit(drives: Sequence[tuple[Chosen, Plan, Work]], proofs: list[str]) -> None:
    import msgspec

    from .documents import BuildDocument

    bodies = [_body(*drive) for drive in drives]
    single = {}
    if len(bodies) == 1:
        single = {name: value for name, value in msgspec.structs.asdict(bodies[0]).items() if name != "name"}
    emit_json(BuildDocument(proofs=proofs, drives=bodies, **single))


def _body(chosen: Chosen, plan: Plan, work: Work) -> BuiltDrive:
    from .documents import BuiltDrive, Fault

    error = work.error
    return BuiltDrive(
        name=work.name,
        plan=plan_body(plan),
        drive=str(chosen.path),
        result=work.result,
        retries=work.medium.retries,
        own_pass=work.fell_back,
        check=check_body(work.report) if work.report else None,
        notes=list(work.notes),
        error=Fault(message=error.message, advice=error.advice, exit_code=error.exit_code) if error else None,
    )


def _show(work: Work, plan: Plan, *, verified: bool) -> None:
    out = console()
    if work.error is not None:
        paragraph(out, marked("FAILED", "bad", work.error.message, 8), indent=2, hanging=10)
        paragraph(out, f"What next: {work.error.advice}", style="quiet", indent=2, hanging=4)
        return
    result, retries = work.result, work.medium.retries
    assert result is not None
    paragraph(out, _what_was_done(result, verified=verified), indent=2, hanging=4)
    if not result.source_was_read:
        words = "The source was not read (--quick); the comparison relied on the drive's own manifest."
        paragraph(out, words, style="warn", indent=2, hanging=4)
    if retries:
        one = "1 read or write" if retries == 1 else f"{retries} reads or writes"
        paragraph(out, f"{one} failed once and succeeded on retry", style="warn", indent=2)
    if work.fell_back:
        out.print("  It was slower than the others, so it was finished separately")
    for note in work.notes:
        paragraph(out, note, indent=2, hanging=4)
    if work.report is not None:
        show_report(work.report, work.name, planned=plan.forecast)


def _what_was_done(result: BuildResult, *, verified: bool) -> str:
    if result.bytes_written == 0:
        return f"Already up to date: {shown_size(result.bytes_found_right)} compared, nothing written"
    writing = f"writing {shown_seconds(result.writing_seconds)}"
    if result.writing_seconds > 1:
        writing += f", {shown_size(int(result.bytes_written / result.writing_seconds))}/s"
    reading = f"; reading back {shown_seconds(result.reading_back_seconds)}" if verified else ""
    words = f"{shown_size(result.bytes_written)} written{'; read back and identical' if verified else ''}"
    kept = f"; {shown_size(result.bytes_found_right)} already correct" if result.bytes_found_right else ""
    return f"{words}{kept} ({writing}{reading})"
