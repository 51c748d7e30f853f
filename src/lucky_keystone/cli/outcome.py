"""What became of the drives of a build: as text, as JSON, and as the program's exit code."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from ..units import shown_size
from .after import how_to_start
from .check import report_body, show_report
from .plan import plan_body
from .show import console, emit_json, heading

if TYPE_CHECKING:
    from ..planning.plan import Plan
    from ..work import Work
    from .targets import Chosen


def tell_outcome(
    drives: Sequence[tuple[Chosen, Plan, Work]], proofs: list[str], *, as_json: bool, verbose: bool, verified: bool
) -> int:
    """Show what became of every drive; return the exit code. The error of a single drive is raised."""
    works = [work for _, _, work in drives]
    if len(works) == 1 and works[0].error is not None:
        raise works[0].error
    if as_json:
        bodies = [_body(*drive) for drive in drives]
        single = {key: value for key, value in bodies[0].items() if key != "name"} if len(bodies) == 1 else {}
        emit_json("build", {**single, "proofs": proofs, "drives": bodies})
        return max(work.exit_code for work in works)
    out = console()
    for proof in proofs:
        out.print(f"  verified: {proof}")
    for work in works:
        if len(works) > 1:
            heading(out, work.name)
        _show(work, verbose=verbose, verified=verified)
    if any(work.error is None for work in works):
        for paragraph in how_to_start(drives[0][1]):
            out.print()
            out.print(paragraph, style="dim")
    return max(work.exit_code for work in works)


def _body(chosen: Chosen, plan: Plan, work: Work) -> dict[str, Any]:
    error = work.error
    return {
        "name": work.name,
        "plan": plan_body(plan),
        "drive": str(chosen.path),
        "result": asdict(work.result) if work.result else None,
        "retries": work.medium.retries,
        "own_pass": work.fell_back,
        "check": report_body(work.report) if work.report else None,
        "notes": work.notes,
        "error": {"message": error.message, "advice": error.advice, "exit_code": error.exit_code} if error else None,
    }


def _show(work: Work, *, verbose: bool, verified: bool) -> None:
    out = console()
    if work.error is not None:
        out.print(f"  FAILED  {work.error.message}", style="bold red")
        out.print(f"  What next: {work.error.advice}", style="dim")
        return
    result, retries = work.result, work.medium.retries
    assert result is not None
    if result.bytes_written == 0:
        out.print(f"  Already up to date: {shown_size(result.bytes_found_right)} compared, nothing written")
    else:
        kept = f"; {shown_size(result.bytes_found_right)} already correct" if result.bytes_found_right else ""
        out.print(
            f"  {shown_size(result.bytes_written)} written{'; read back and identical' if verified else ''}{kept}"
        )
    if not result.source_was_read:
        out.print("  The source was not read (--quick): the drive's own manifest was believed", style="yellow")
    if retries:
        out.print(f"  {retries} reads or writes failed once and succeeded on retry", style="yellow")
    if work.fell_back:
        out.print("  It was slower than the others, so it was finished separately")
    for note in work.notes:
        out.print(f"  {note}")
    if work.report is not None:
        show_report(work.report, work.name, verbose=verbose)
