"""`build`: one or several drives from a source or a plan, checked at their end."""

from __future__ import annotations

from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..errors import UsageError
from ..units import exact_size
from .after import eject, tell_system
from .inspect import prove, show_source
from .logged import Logged
from .options import (
    Size,
    bay_option,
    choice_options,
    complete_drive,
    guard_options,
    json_option,
    lifted_guards,
    machine_of,
    machine_options,
    source_options,
    verbose_option,
    with_option,
)
from .outcome import tell_outcome
from .plan import choices_of, show_plan
from .show import Stages, console, heading
from .targets import Chosen, choose, confirm, guard, open_for_writing, reading

if TYPE_CHECKING:
    from ..building.request import WantedDrive
    from ..drives.guards import Guard
    from ..work import Work


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
@with_option
@source_options
@machine_options
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
    "--no-verify", is_flag=True, help="Do not read back what was written: a drive that loses data stays unnoticed."
)
@click.option("--no-probe", is_flag=True, help="Do not look for a fake drive first (some seconds).")
@click.option("--eject", "ejecting", is_flag=True, help="Eject the drive when done.")
@guard_options
@bay_option
@json_option
@verbose_option
def command(
    source: Path,
    drives: tuple[str, ...],
    size: int | None,
    sector_size: int | None,
    further: tuple[Path, ...],
    added: tuple[Path, ...],
    sha256: str | None,
    verify_source: bool,
    trust: tuple[Path, ...],
    revoked: tuple[Path, ...],
    model: str,
    update: bool,
    quick: bool,
    from_scratch: bool,
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

    Run the same command again to continue an interrupted build. Several drives are written in one pass.
    """
    from ..building.request import Request, open_requested, plan_all, with_saved_plan
    from ..work import carry_out, look_at

    if quick and not update:
        raise UsageError("--quick goes with --update.", advice="Leave it out: a build reads the whole source.")
    lifted = lifted_guards(given)
    kind = "update" if update else "build"
    machine = machine_of(trust, revoked, model)
    asked = Request(
        path=source,
        choices=choices_of(given),
        added=added,
        further=further,
        size=size,
        update=update,
        machine=machine,
    )
    request = with_saved_plan(asked, several=len(drives) > 1)
    sector_size = sector_size or (request.saved.drive.sector_size if request.saved else None)
    chosen = [choose(drive, bay, sector_size) for drive in drives]
    _refuse_twice(chosen, given["identity"])
    for each in chosen:
        with Logged(kind, each, only_failures=True):
            guard(each, needed=0, lifted=lifted, sources=(source, *added, *further))
    with Stages(quiet=as_json) as stages:
        opened = open_requested(request, stages)
    wanted = plan_all(request, opened, chosen, reading)
    sources = opened.places
    pairs = list(zip(chosen, wanted, strict=True))
    out = console()
    if not as_json:
        show_source(opened, [])
        show_plan(wanted[0].plan, layout=verbose, verbose=verbose)
        for each, one in pairs[1:]:
            out.print(f"  {each.name}: the same, on {exact_size(one.plan.drive.size or 0)}")
    for each, one in pairs:
        with Logged(kind, each, opened, only_failures=True):
            will = "updated to the new source" if update else "erased"
            confirm(
                each,
                yes=yes,
                needed=one.plan.needed,
                lifted=lifted,
                sources=sources,
                will=will,
                continues=one.continues,
            )
    proofs = prove(opened, sha256, verify_source, quiet=as_json)
    if not as_json:
        heading(out, ("Updating " if update else "Building ") + ", ".join(each.name for each in chosen))
    with ExitStack() as stack, Stages(quiet=as_json) as stages:
        works = [_opened(each, one, stack, lifted, sources) for each, one in pairs]
        for work in works:
            work.quick, work.machine = quick, machine
        logs = [Logged(kind, each, opened) for each in chosen]
        line = stages.line if len(works) > 1 else lambda _: stages
        carry_out(works, line, verify=not no_verify, resume=not from_scratch, probe=not no_probe)
        for each, work, log in zip(chosen, works, logs, strict=True):
            look_at(work, line(work.name), verified=not no_verify)
            if work.result and work.result.bytes_written and work.error is None:
                work.notes += tell_system(each, work.medium, work.image.partitions)
            log.bytes_written = work.result.bytes_written if work.result else 0
            log.retries, log.healthy = work.medium.retries, work.exit_code == 0
            log.enter(work.error)
    for each, work in zip(chosen, works, strict=True):
        if ejecting and work.error is None:
            work.notes += eject(each)
    outcome = [(each, one.plan, work) for (each, one), work in zip(pairs, works, strict=True)]
    return tell_outcome(outcome, proofs, as_json=as_json, verbose=verbose, verified=not no_verify)


def _opened(
    chosen: Chosen,
    wanted: WantedDrive,
    stack: ExitStack,
    lifted: frozenset[Guard],
    sources: tuple[Path, ...],
) -> Work:
    """Open a confirmed drive; it is closed with the stack."""
    from ..building.compose import compose_drive
    from ..work import Work

    plan = wanted.plan
    image = compose_drive(plan)
    medium = open_for_writing(chosen, image.size, plan.needed, lifted=lifted, sources=sources)
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
