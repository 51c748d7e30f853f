"""`build`: one or several drives from a source or a plan, checked at their end."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
import msgspec

from ..errors import UsageError
from ..units import exact_size
from .after import Logged, eject, tell_system
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
from .outcome import tell_outcome
from .plan import choices_of, show_plan
from .show import Stages, console, heading
from .targets import Chosen, choose, confirm, guard, open_for_writing, reading

if TYPE_CHECKING:
    from ..building.update import Standing
    from ..drives.guards import Guard
    from ..families.choices import Choices
    from ..planning.plan import Plan
    from ..sources.source import Source
    from ..work import Work


@dataclass
class _Wanted:
    """One drive as it is to become."""

    chosen: Chosen
    plan: Plan
    standing: Standing | None = None


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
@click.option(
    "--update", is_flag=True, help="Bring a drive that was built here to this source, writing only what differs."
)
@click.option("--anew", is_flag=True, help="Start over, even where an interrupted build could go on.")
@click.option(
    "--no-verify", is_flag=True, help="Do not read back what was written: a drive that loses data stays unnoticed."
)
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
    from ..work import carry_out, look_at

    lifted = lifted_guards(given)
    kind = "update" if update else "build"
    chosen = [choose(drive, bay, sector_size) for drive in drives]
    _refuse_twice(chosen, given["identity"])
    for each in chosen:
        with Logged(kind, each, only_failures=True):
            guard(each, needed=0, lifted=lifted, sources=(source, *added))
    opened, wanted = _plans(source, chosen, size, sector_size, added, choices_of(given), update=update)
    sources = (opened.path, *opened.added)
    out = console()
    if not as_json:
        show_source(opened, [])
        show_plan(wanted[0].plan, layout=verbose, verbose=verbose)
        for one in wanted[1:]:
            out.print(f"  {one.chosen.name}: the same, on {exact_size(one.plan.drive.size or 0)}")
    for one in wanted:
        with Logged(kind, one.chosen, opened, only_failures=True):
            will = "brought to the new source" if update else "erased"
            confirm(one.chosen, yes=yes, needed=one.plan.needed, lifted=lifted, sources=sources, will=will)
    proofs = prove(opened, sha256, verify_source, quiet=as_json)
    if not as_json:
        heading(out, ("Updating " if update else "Building ") + ", ".join(one.chosen.name for one in wanted))
    with ExitStack() as stack, Stages(quiet=as_json) as stages:
        works = [_opened(one, stack, lifted, sources) for one in wanted]
        logs = [Logged(kind, one.chosen, opened) for one in wanted]
        line = stages.line if len(works) > 1 else lambda _: stages
        carry_out(works, line, verify=not no_verify, resume=not anew, probe=not no_probe)
        for one, work, log in zip(wanted, works, logs, strict=True):
            look_at(work, line(work.name), verified=not no_verify)
            if work.result and work.result.bytes_written and work.error is None:
                work.notes += tell_system(one.chosen, work.medium, work.image.partitions)
            log.bytes_written = work.result.bytes_written if work.result else 0
            log.retries, log.healthy = work.medium.retries, work.exit_code == 0
            log.enter(work.error)
    for one, work in zip(wanted, works, strict=True):
        if ejecting and work.error is None:
            work.notes += eject(one.chosen)
    outcome = [(one.chosen, one.plan, work) for one, work in zip(wanted, works, strict=True)]
    return tell_outcome(outcome, proofs, as_json=as_json, verbose=verbose, verified=not no_verify)


def _opened(one: _Wanted, stack: ExitStack, lifted: frozenset[Guard], sources: tuple[Path, ...]) -> Work:
    """Open a confirmed drive; it is closed with the stack."""
    from ..building.compose import compose_drive
    from ..work import Work

    image = compose_drive(one.plan)
    medium = open_for_writing(one.chosen, image.size, one.plan.needed, lifted=lifted, sources=sources)
    stack.callback(medium.close)
    return Work(one.chosen.name, image, medium, one.plan.needed, one.chosen.drive is not None, one.standing)


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


def _plans(
    path: Path,
    chosen: list[Chosen],
    size: int | None,
    sector_size: int | None,
    added: tuple[Path, ...],
    choices: Choices,
    *,
    update: bool,
) -> tuple[Source, list[_Wanted]]:
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
            raise UsageError(
                "A plan has its choices already.", advice="Edit the plan file, or build from the source itself."
            )
        saved = read_plan(path)
        opened = open_planned_source(saved, path)
        choices = _with_identity(saved.choices, choices.identity, several=len(chosen) > 1)
        sector_size = sector_size or saved.drive.sector_size
        size = size or saved.drive.size
        if update:  # the volume stands: its measures are not a plan's to choose
            choices = msgspec.structs.replace(choices, use=None, cluster=None)
    wanted = []
    for each in chosen:
        refuse_source_as_target(opened, each.path)
        own = each if each.drive else Chosen(each.path, None, None, sector_size or each.sector_size)
        if not update:
            wanted.append(_Wanted(own, make_plan(opened, choices, own.shape(size))))
            continue
        if not own.exists:
            raise UsageError(
                f"{own.name} does not exist, so it cannot be updated.", advice="Build it, without --update."
            )
        with reading(own) as medium:
            standing = read_standing(medium, own.sector_size)
        wanted.append(
            _Wanted(own, plan_update(opened, _kept_identity(choices, standing), own.shape(None), standing), standing)
        )
    return opened, wanted


def _with_identity(saved: Choices, identity: str | None, *, several: bool) -> Choices:
    if identity is not None:
        return msgspec.structs.replace(saved, identity=identity)
    # Two drives of one identity word would collide in one computer: each takes its own tag.
    return msgspec.structs.replace(saved, identity=None) if several else saved


def _kept_identity(choices: Choices, standing: Standing) -> Choices:
    """A drive keeps its table, and the identity word it was built with unless another one is chosen."""
    if standing.manifest is None:
        return choices
    about = standing.manifest.about
    if choices.table not in (None, about.table):
        raise UsageError(f"An update keeps the table as it is: {about.table}.", advice="Build anew, without --update.")
    return msgspec.structs.replace(choices, identity=choices.identity or about.identity, table=about.table)
