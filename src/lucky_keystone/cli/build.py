"""`build`: one or several drives from a source or a plan, checked at their end."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from msgspec import Struct
from msgspec.structs import replace

from ..common.errors import UsageError
from ..common.units import SECTOR_SIZES, exact_size
from ..doing.targets import Chosen, choose
from .brief import show_brief
from .choosing import answered
from .completion import complete_target
from .confirming import confirm_all
from .guided import ask_for_drive, whole_line
from .headings import Command
from .manner import manner
from .options import (
    Size,
    SourcePlace,
    Word,
    bay_option,
    choice_options,
    gathered,
    guard_options,
    machine_options,
    output_options,
    overwrite_option,
    preset_options,
    setup_options,
    source_options,
    terms_of,
    with_option,
)
from .outcome import tell_outcome
from .plan import show_forecast, show_plan
from .question import can_ask
from .show import console, heading, paragraph
from .source_page import drive_needed, show_source
from .sources import prove, resolved
from .stages import Stages

if TYPE_CHECKING:
    from ..doing.given import GivenMachines, GivenPreset, GivenSource
    from ..doing.jobs import DriveJob, How, Pair
    from ..doing.keeping import Keeping
    from ..doing.request import Request
    from ..drives.guards import Guard
    from ..fetching.link import Link, Place
    from ..machine.known import KnownMachine
    from ..sources.source import Source


def _how(*, quick: bool, from_scratch: bool, no_verify: bool, no_probe: bool, ejecting: bool) -> How:
    from ..doing.jobs import How

    return How(verify=not no_verify, resume=not from_scratch, probe=not no_probe, quick=quick, eject=ejecting)


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone build installer.iso
  lucky-keystone build installer.iso --onto counter.img
  lucky-keystone build installer.iso --onto G7KM --unmount --eject
  lucky-keystone build installer.iso --onto G7KM --onto C4RW --onto P93H
  lucky-keystone build newer.iso --onto G7KM --update
  lucky-keystone build crew.toml --onto crew.img --size 16GB
  lucky-keystone build installer.iso --onto G7KM --yes --json
  lucky-keystone build https://images.tidewell.example/tidewell-12.iso --sha256 SUM --onto G7KM""",
)
@click.argument("source", metavar="SOURCE-OR-PLAN", type=SourcePlace(), required=False)
@click.option(
    "--onto",
    "drives",
    multiple=True,
    metavar="DRIVE",
    shell_complete=complete_target,
    help="A drive's tag or device, or an image file, made when it does not exist. Repeatable: all in one pass. "
    "In a terminal it is asked for when left out.",
)
@click.option(
    "--batch",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="Build many drives from a CSV file, a row each: drive, source or plan, preset, label, size, machine.",
)
@click.option(
    "--batch-report",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="With --batch: write the result of each row, as .csv or .json.",
)
@overwrite_option
@click.option("--size", type=Size(), metavar="SIZE", help="Size of an image file to be made; else as large as needed.")
@click.option(
    "--sector-size", type=Word(SECTOR_SIZES), metavar="BYTES", help="Sector size of an image file: 512 or 4096."
)
@choice_options
@with_option
@setup_options
@source_options
@machine_options
@preset_options
@click.option(
    "--link",
    type=SourcePlace(),
    metavar="LINK",
    help="With a plan: where its image is now, when the plan's link has expired; '-': it is read from standard input.",
)
@click.option("--keep", is_flag=True, help="Also keep the downloaded image on this computer ('lucky-keystone images').")
@click.option(
    "--update", is_flag=True, help="Bring a drive that was built here to this source, writing only what differs."
)
@click.option(
    "--quick",
    is_flag=True,
    help="With --update: do not read a source whose names, sizes and times are unchanged; the drive's manifest is "
    "believed.",
)
@click.option("--from-scratch", is_flag=True, help="Start over, even where an interrupted build could be continued.")
@click.option(
    "--no-verify", is_flag=True, help="Do not read back what was written: a drive that loses data will go undetected."
)
@click.option("--no-probe", is_flag=True, help="Do not look for a fake drive first (some seconds).")
@click.option("--eject", "ejecting", is_flag=True, help="Eject the drive when done.")
@guard_options
@bay_option
@output_options
@gathered("how", _how, "quick", "from_scratch", "no_verify", "no_probe", "ejecting")
def command(
    source: Place | None,
    drives: tuple[str, ...],
    batch: Path | None,
    batch_report: Path | None,
    overwrite: bool,
    size: int | None,
    sector_size: int | None,
    choices: Mapping[str, Any],
    given: GivenSource,
    machines: GivenMachines,
    preset: GivenPreset,
    link: Link | None,
    keep: bool,
    update: bool,
    how: How,
    yes: bool,
    lifted: frozenset[Guard],
    bay: Path | None,
) -> int:
    """Build a drive from a source (disc image, folder, optical drive, link) or a saved plan, read it back, check it.

    Run the same command again to continue an interrupted build. Several drives are written in one pass; so are those of
    a batch that have the same source and choices, and each of its rows succeeds or fails alone.
    """
    from ..doing.given import asked_for, is_plan_file
    from ..doing.request import Request, with_saved_plan

    if how.quick and not update:
        raise UsageError("--quick goes with --update.", advice="Leave it out: a build reads the whole source.")
    if batch is not None:
        from ..doing.batch import Batch
        from .batch import build_batch

        _refuse_beside_batch(given, others=bool(drives or update or link is not None or keep))
        rows = Batch(
            choices=choices,
            preset=preset,
            machines=machines,
            given=given,
            terms=terms_of(None, given.authority, bay),
            source=source,
            size=size,
            bay=bay,
            sector_size=sector_size,
            lifted=lifted,
        )
        return build_batch(rows, batch, how, batch_report, yes=yes, overwrite=overwrite)
    place, terms = resolved(_single_source(source, drives, batch_report), given, bay)
    known = asked_for(choices, preset, machines, of_plan=is_plan_file(place))
    keeping = _kept(link or place) if keep else None
    terms = replace(terms, keep=keeping.take if keeping else None)
    asked = replace(Request.of(place, known, given, terms, size), update=update, link=link)
    request = with_saved_plan(asked, several=len(drives) > 1)
    build = _Build(request, given, how, lifted, bay, sector_size, keeping, yes=yes)
    return build.run(drives, choices["identity"])


def _refuse_beside_batch(given: GivenSource, *, others: bool) -> None:
    if others or given.sha256 is not None or given.verify:
        raise UsageError(
            "--batch goes without --onto, --update, --link, --keep, --sha256 and --verify-source.",
            advice="Its rows name the drives, and a saved plan has its source's sum.",
        )


def _single_source(source: Place | None, drives: Sequence[str], batch_report: Path | None) -> Place:
    """Return the source, where all is given that a build needs, or can be asked for."""
    if batch_report is not None:
        raise UsageError("--batch-report goes with --batch.", advice="Leave it out.")
    if source is None:
        raise click.UsageError("SOURCE-OR-PLAN is missing.")
    if not drives and not can_ask():
        raise UsageError(
            "--onto is missing, and there is no terminal to ask which drive.",
            advice="Name the drive: --onto TAG ('lucky-keystone drives' lists the tags), or --onto FILE for an image.",
        )
    return source


def _kept(place: Place) -> Keeping:
    from ..doing.keeping import Keeping

    keeping = Keeping(place)
    click.get_current_context().call_on_close(keeping.close)
    return keeping


class _Build(Struct, frozen=True):
    """A build or an update of one or several drives, as it is asked for, shown and told."""

    request: Request
    given: GivenSource
    how: How
    lifted: frozenset[Guard]
    bay: Path | None
    sector_size: int | None
    keeping: Keeping | None
    yes: bool

    def run(self, drives: Sequence[str], identity: str | None) -> int:
        """Open, decide, show, ask, write, and tell; return the exit code. A drive that is not named is asked for."""
        from ..doing.jobs import DriveJob, refuse_no_space
        from ..doing.request import open_requested, plan_all
        from ..sources.locating import naming_files

        saved = self.request.saved
        sector_size = self.sector_size or (saved.drive.sector_size if saved else None)
        job = DriveJob("update" if self.request.update else "build", self.lifted)
        chosen = [choose(drive, self.bay, sector_size) for drive in drives]
        _refuse_twice(chosen, identity)
        path = self.request.path
        job.guard(chosen, (*([path] if isinstance(path, Path) else []), *self.given.read_beside))
        with Stages() as stages:
            opened = open_requested(self.request, stages)
        with naming_files(opened):
            request = replace(self.request, choices=answered(opened, self.request.choices))
        if not drives:
            chosen = [_asked_for_drive(opened, request, self.bay, sector_size)]
            job.guard(chosen, opened.places)
        with naming_files(opened):
            wanted = plan_all(request, opened, chosen)
        pairs = list(zip(chosen, wanted, strict=True))
        refuse_no_space(pairs)
        _show_plans(opened, pairs, request.machines, with_source=bool(drives))
        confirm_all(job, pairs, opened, yes=self.yes)
        code = self._write(job, pairs, opened, request)
        if not drives:
            line = whole_line(click.get_current_context().obj, self.bay, chosen[0], request.choices.edition or "")
            paragraph(console(), f"To skip the prompt next time: {line}", style="quiet")
        return code

    def _write(self, job: DriveJob, pairs: Sequence[Pair], opened: Source, request: Request) -> int:
        """Build confirmed drives, report the results, and return the exit code."""
        from ..sources.scanning import doubtful

        began, asked_sum = time.monotonic(), request.terms.sha256
        proofs = prove(opened, asked_sum or None, self.given.verify)
        if not manner().as_json and not manner().quiet:
            names = ", ".join(each.name for each, _ in pairs)
            heading(console(), f"{'Updating' if request.update else 'Building'} {names}")
        with Stages() as stages:
            works = job.run(pairs, opened, request.machine, self.how, opened.sha256 or asked_sum, stages)
        if not proofs:  # none were made before: what came from servers is proven now
            proofs = [f"{file.path.name} has the SHA-256 given" for file in opened.remote_files if file.proven]
        proofs += self.keeping.finish(opened) if self.keeping is not None else []
        works[0].notes += doubtful(opened)
        outcome = [(each, one.plan, work) for (each, one), work in zip(pairs, works, strict=True)]
        return tell_outcome(outcome, proofs, verified=self.how.verify, seconds=time.monotonic() - began)


def _asked_for_drive(opened: Source, request: Request, bay: Path | None, sector_size: int | None) -> Chosen:
    """Show a source and what it needs, and ask which drive it goes onto."""
    from ..planning.make import size_needed
    from ..sources.locating import naming_files

    with naming_files(opened):
        needed, refusal = size_needed(opened, request.choices)
    show_source(opened, [], [drive_needed(opened, needed, refusal)])
    return ask_for_drive(bay, sector_size, needed)


def _show_plans(opened: Source, pairs: Sequence[Pair], machines: Sequence[KnownMachine], *, with_source: bool) -> None:
    if manner().as_json or manner().quiet:
        return
    plan = pairs[0][1].plan
    if not manner().verbose:
        show_brief(opened, pairs, with_source=with_source)
        show_forecast(plan, machines)
        return
    if with_source:
        show_source(opened, [])
    show_plan(plan, layout=True, machines=machines)
    for each, one in pairs[1:]:
        console().print(f"  {each.name}: the same, on {exact_size(one.plan.drive.size or 0)}")


def _refuse_twice(chosen: list[Chosen], identity: str | None) -> None:
    paths = [each.path.resolve() for each in chosen]
    twice = next((path for path in paths if paths.count(path) > 1), None)
    if twice is not None:
        raise UsageError(f"{twice} is named twice.", advice="Name each drive once.")
    if identity is not None and len(chosen) > 1:
        raise UsageError(
            "Several drives cannot have one identity word: two alike collide in one computer.",
            advice="Leave out --identity: each takes its own tag or name.",
        )
