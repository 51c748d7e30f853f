"""`build`: one or several drives from a source or a plan, checked at their end."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..errors import KeystoneError, UsageError
from ..units import exact_size, shown_size
from .after import HOW_TO_START, Logged, eject, tell_system
from .check import report_body, show_report
from .inspect import prove, show_source
from .options import (
    CHOICE_NAMES,
    Size,
    bay_option,
    choice_options,
    complete_drive,
    guard_options,
    json_option,
    lifted_guards,
    source_options,
    verbose_option,
)
from .plan import choices_of, plan_body, show_plan
from .show import Stages, console, emit_json, heading
from .targets import Chosen, choose, confirm, guard, open_for_writing, reading

if TYPE_CHECKING:
    from ..building.build import BuildResult
    from ..building.compose import DriveImage
    from ..building.update import Standing
    from ..checking.report import Report
    from ..drives.retrying import Retrying
    from ..planning.choices import Choices
    from ..planning.plan import Plan
    from ..sources.source import Source


@dataclass
class _Work:
    """One drive on its way."""

    chosen: Chosen
    plan: Plan
    standing: Standing | None = None
    image: DriveImage | None = None
    medium: Retrying | None = None
    result: BuildResult | None = None
    report: Report | None = None
    error: KeystoneError | None = None
    fell_back: bool = False
    notes: list[str] | None = None


@click.command(
    epilog="""\b
Examples:
  lucky-keystone build installer.iso --onto counter.img
  lucky-keystone build installer.iso --onto G7KM --unmount --eject
  lucky-keystone build installer.iso --onto G7KM --onto C4RW --onto P93H
  lucky-keystone build newer.iso --onto G7KM --update
  lucky-keystone build crew.toml --onto crew.img --size 16GB
  lucky-keystone build installer.iso --onto G7KM --bay tidewell/bay --yes --json"""
)
@click.argument("source", metavar="SOURCE-OR-PLAN", type=click.Path(path_type=Path))
@click.option(
    "--onto",
    "drives",
    required=True,
    multiple=True,
    metavar="DRIVE",
    shell_complete=complete_drive,
    help="A drive's tag or device, or an image file; made when it does not exist. Repeatable: all in one pass.",
)
@click.option("--size", type=Size(), metavar="SIZE", help="Size of an image file to be made; else as large as needed.")
@click.option("--sector-size", type=int, metavar="BYTES", help="Sector size of an image file: 512 or 4096.")
@choice_options
@source_options
@click.option("--update", is_flag=True, help="Bring a drive that was built here to this source, writing only what differs.")
@click.option("--anew", is_flag=True, help="Start over, even where an interrupted build could go on.")
@click.option("--no-verify", is_flag=True, help="Do not read back what was written: a drive that loses data stays unnoticed.")
@click.option("--no-probe", is_flag=True, help="Do not look for a fake drive first (some seconds).")
@click.option("--eject", "ejecting", is_flag=True, help="Make the drive ready to be pulled out at the end.")
@guard_options
@bay_option
@json_option
@verbose_option
def command(
    source: Path,
    drives: tuple[str, ...],
    size: int | None,
    sector_size: int | None,
    added: tuple[Path, ...],
    sha256: str | None,
    verify_source: bool,
    update: bool,
    anew: bool,
    no_verify: bool,
    no_probe: bool,
    ejecting: bool,
    yes: bool,
    bay: Path | None,
    as_json: bool,
    verbose: bool,
    **given: Any,
) -> int:
    """Build a drive from a source (disc image, folder, optical drive) or a saved plan, read it back, and check it.

    A build that was interrupted goes on when the same command is given again. Several drives are written in one pass.
    """
    from ..building.compose import compose_drive

    lifted = lifted_guards(given)
    chosen = [choose(drive, bay, sector_size) for drive in drives]
    _refuse_twice(chosen)
    for each in chosen:
        with Logged("update" if update else "build", each, only_failures=True):
            guard(each, needed=0, lifted=lifted, sources=(source, *added))
    opened, works = _plans(source, chosen, size, sector_size, added, choices_of(given), update=update)
    sources = (opened.path, *opened.added)
    out = console()
    if not as_json:
        show_source(opened, [])
        show_plan(works[0].plan, layout=verbose, verbose=verbose)
        for work in works[1:]:
            out.print(f"  {work.chosen.name}: the same, on {exact_size(work.plan.drive.size or 0)}")
    for work in works:
        with Logged("update" if update else "build", work.chosen, opened, only_failures=True):
            will = "brought to the new source" if update else "erased"
            confirm(work.chosen, yes=yes, needed=work.plan.needed, lifted=lifted, sources=sources, will=will)
    proofs = prove(opened, sha256, verify_source, quiet=as_json)
    if not as_json:
        heading(out, ("Updating " if update else "Building ") + ", ".join(work.chosen.name for work in works))
    with ExitStack() as stack, Stages(quiet=as_json) as stages:
        for work in works:
            work.image = compose_drive(work.plan)
            work.medium = open_for_writing(work.chosen, work.image.size, work.plan.needed, lifted=lifted, sources=sources)
            stack.callback(work.medium.close)
        logs = [Logged("update" if update else "build", work.chosen, opened) for work in works]
        try:
            _write(works, stages, verify=not no_verify, resume=not anew, probe=not (no_probe or update))
        except KeyboardInterrupt:
            pass
        finally:
            for work, log in zip(works, logs, strict=True):
                _look_at(work, stages, log, no_verify=no_verify)
    if ejecting:
        for work in works:
            if work.error is None:
                work.notes = [*(work.notes or []), *eject(work.chosen)]
    return _tell(works, proofs, as_json=as_json, verbose=verbose, verified=not no_verify)


def _refuse_twice(chosen: list[Chosen]) -> None:
    paths = [each.path.resolve() for each in chosen]
    twice = next((path for path in paths if paths.count(path) > 1), None)
    if twice is not None:
        raise UsageError(f"{twice} is named twice.", advice="Name each drive once.")


def _plans(
    path: Path,
    chosen: list[Chosen],
    size: int | None,
    sector_size: int | None,
    added: tuple[Path, ...],
    choices: Choices,
    *,
    update: bool,
) -> tuple[Source, list[_Work]]:
    """Open the source, or the plan and its source, and decide for every drive."""
    from ..building.update import plan_update, read_standing
    from ..planning.planfile import open_planned_source, read_plan
    from ..planning.rules import make_plan, refuse_source_as_target
    from ..sources.source import open_source

    saved = None
    if path.suffix.lower() != ".toml" or path.is_dir():
        opened = open_source(path, added)
    else:
        if added or any(getattr(choices, name) is not None for name in CHOICE_NAMES if name != "identity"):
            raise UsageError("A plan has its choices already.", advice="Edit the plan file, or build from the source itself.")
        saved = read_plan(path)
        opened = open_planned_source(saved, path)
        choices = _with_identity(saved.choices, choices.identity, several=len(chosen) > 1)
        sector_size = sector_size or saved.drive.sector_size
        size = size or saved.drive.size
    works = []
    for each in chosen:
        refuse_source_as_target(opened, each.path)
        own = each if each.drive else Chosen(each.path, None, None, sector_size or each.sector_size)
        if not update:
            works.append(_Work(own, make_plan(opened, choices, own.shape(size))))
            continue
        if not own.exists:
            raise UsageError(f"{own.name} does not exist, so it cannot be updated.", advice="Build it, without --update.")
        with reading(own) as medium:
            standing = read_standing(medium, own.sector_size)
        works.append(_Work(own, plan_update(opened, _kept_identity(choices, standing), own.shape(None), standing), standing))
    return opened, works


def _with_identity(saved: Choices, identity: str | None, *, several: bool) -> Choices:
    import msgspec

    if identity is not None:
        return msgspec.structs.replace(saved, identity=identity)
    # Two drives of one identity word would collide in one computer: each takes its own tag.
    return msgspec.structs.replace(saved, identity=None) if several else saved


def _kept_identity(choices: Choices, standing: Standing) -> Choices:
    """A drive keeps its table, and the identity word it was built with unless another one is chosen."""
    import msgspec

    if standing.manifest is None:
        return choices
    about = standing.manifest.about
    if choices.table not in (None, about.table):
        raise UsageError(f"An update keeps the table as it is: {about.table}.", advice="Build anew, without --update.")
    return msgspec.structs.replace(choices, identity=choices.identity or about.identity, table=about.table)


def _write(works: list[_Work], stages: Stages, *, verify: bool, resume: bool, probe: bool) -> None:
    """Write every drive; each gets its result or its error."""
    from ..building.build import claimed_bytes
    from ..building.several import Job, build_all
    from ..building.update import update

    several = len(works) > 1
    jobs: list[tuple[_Work, Job]] = []
    for work in works:
        assert work.image is not None
        assert work.medium is not None
        tell = stages.line(work.chosen.name) if several else stages
        try:
            if work.standing is not None:
                work.result = update(work.image, work.medium, work.standing, tell, verify=verify)
                continue
            if probe and work.chosen.drive is not None and not (resume and claimed_bytes(work.image, work.medium)):
                _refuse_fake(work)
            jobs.append((work, Job(work.chosen.name, work.image, work.medium, tell)))
        except KeystoneError as error:
            work.error = error
    try:
        build_all([job for _, job in jobs], verify=verify, resume=resume)
    except KeystoneError as error:
        for work, job in jobs:
            work.error = job.error or (None if job.result else error)
    for work, job in jobs:
        work.result, work.fell_back = job.result, job.fell_back
        work.error = work.error or job.error


def _refuse_fake(work: _Work) -> None:
    """Look whether the drive holds what it says: it is going to be erased, so marks may be written. Raises DriveError for a fake."""
    import secrets

    from ..errors import DriveError
    from ..gauging.capacity import probe_capacity
    from ..gauging.marks import Marker

    assert work.medium is not None
    assert work.image is not None
    end = max(region.offset + region.size for region in work.image.regions)
    found = probe_capacity(work.medium, Marker(secrets.token_bytes(16)), lambda *_: None, written_below=end)
    told = f"{found.told[:1].lower()}{found.told[1:]}"
    if found.is_fake and (found.real_size or 0) < work.plan.needed:
        raise DriveError(
            f"Drive {work.chosen.name} is a fake: {told}",
            advice="Give it back to where it was bought. 'lucky-keystone gauge' measures it closely.",
        )
    if found.is_fake:
        work.notes = [f"Careful, this drive is a fake: {told} The installer fits, but do not trust the rest."]


def _look_at(work: _Work, stages: Stages, log: Logged, *, no_verify: bool) -> None:
    """Check a written drive, let the system know its table, and enter the work in the shop's record."""
    from ..checking.check import check_drive
    from ..errors import Interrupted

    assert work.medium is not None
    assert work.image is not None
    if work.result is None and work.error is None:
        work.error = Interrupted("Stopped before the end.")
    if work.error is None:
        try:
            quiet = stages if not work.fell_back else stages.line(work.chosen.name)
            work.report = check_drive(work.medium, quiet, sector_size=work.image.sector_size, contents=False)
            if work.result and work.result.bytes_written:
                work.notes = [*(work.notes or []), *tell_system(work.chosen, work.medium, work.image.partitions)]
        except KeystoneError as error:
            work.error = error
    if work.report is not None and no_verify:
        work.report.unknown.append("Nothing was read back (--no-verify): whether the drive kept what was written is not known.")
    log.bytes_written = work.result.bytes_written if work.result else 0
    log.retries = work.medium.retries
    log.healthy = work.report is not None and work.report.healthy
    log.enter(work.error)


def _tell(works: list[_Work], proofs: list[str], *, as_json: bool, verbose: bool, verified: bool) -> int:
    """Show what became of every drive; return the exit code. The error of a single drive is raised."""
    if len(works) == 1 and works[0].error is not None:
        raise works[0].error
    if as_json:
        bodies = [_body(work) for work in works]
        single = {key: value for key, value in bodies[0].items() if key != "name"} if len(works) == 1 else {}
        emit_json("build", {**single, "proofs": proofs, "drives": bodies})
    else:
        out = console()
        for proof in proofs:
            out.print(f"  verified: {proof}")
        for work in works:
            _show(work, verbose=verbose, verified=verified, several=len(works) > 1)
        if any(work.error is None for work in works):
            out.print()
            out.print(HOW_TO_START, style="dim")
    codes = [work.error.exit_code if work.error else 0 if work.report and work.report.healthy else 1 for work in works]
    return max(codes)


def _body(work: _Work) -> dict[str, Any]:
    error = work.error
    return {
        "name": work.chosen.name,
        "plan": plan_body(work.plan),
        "drive": str(work.chosen.path),
        "result": asdict(work.result) if work.result else None,
        "retries": work.medium.retries if work.medium else 0,
        "own_pass": work.fell_back,
        "check": report_body(work.report) if work.report else None,
        "notes": work.notes or [],
        "error": {"message": error.message, "advice": error.advice, "exit_code": error.exit_code} if error else None,
    }


def _show(work: _Work, *, verbose: bool, verified: bool, several: bool) -> None:
    out = console()
    if several:
        heading(out, work.chosen.name)
    if work.error is not None:
        out.print(f"  FAILED  {work.error.message}", style="bold red")
        out.print(f"  What next: {work.error.advice}", style="dim")
        return
    result, retries = work.result, work.medium.retries if work.medium else 0
    assert result is not None
    if result.bytes_written == 0:
        out.print(f"  Nothing had to be written: all {shown_size(result.bytes_found_right)} are as they have to be")
    else:
        kept = f", {shown_size(result.bytes_found_right)} were there and right" if result.bytes_found_right else ""
        out.print(f"  {shown_size(result.bytes_written)} written{' and read back alike' if verified else ''}{kept}")
    if retries:
        out.print(f"  {retries} readings or writings failed at first and worked when tried again", style="yellow")
    if work.fell_back:
        out.print("  It was slower than the others and went on in a pass of its own")
    for note in work.notes or []:
        out.print(f"  {note}")
    if work.report is not None:
        show_report(work.report, work.chosen.name, verbose=verbose)
