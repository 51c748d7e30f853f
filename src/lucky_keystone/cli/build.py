"""`build`: a drive from a source or a plan, checked at its end."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..errors import NotYet, UsageError
from ..units import shown_size
from .check import report_body, show_report
from .inspect import prove, show_source
from .options import CHOICE_NAMES, Size, bay_option, choice_options, complete_drive, json_option, source_options, verbose_option
from .plan import choices_of, plan_body, show_plan
from .show import Stages, console, emit_json, heading
from .targets import Chosen, choose, confirm, open_for_writing, writable

if TYPE_CHECKING:
    from ..planning.choices import Choices
    from ..planning.plan import Plan
    from ..sources.source import Source


@click.command(
    epilog="""\b
Examples:
  lucky-keystone build installer.iso --onto counter.img
  lucky-keystone build installer.iso --onto G7KM --bay tidewell/bay --add drivers/
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
    help="A tag of the bay, or an image file; made when it does not exist.",
)
@click.option("--size", type=Size(), metavar="SIZE", help="Size of an image file to be made; else as large as needed.")
@click.option("--sector-size", type=int, metavar="BYTES", help="Sector size of an image file: 512 or 4096.")
@choice_options
@source_options
@click.option("--no-verify", is_flag=True, help="Do not read back what was written: a drive that loses data stays unnoticed.")
@click.option("--yes", is_flag=True, help="Erase without asking. For scripts.")
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
    no_verify: bool,
    yes: bool,
    bay: Path | None,
    as_json: bool,
    verbose: bool,
    **given: Any,
) -> int:
    """Build a drive from a source (disc image or folder) or a saved plan, read it back, and check it."""
    from ..building.build import build
    from ..building.compose import compose_drive
    from ..checking.check import check_drive

    if len(drives) > 1:
        raise NotYet("Several drives in one pass are not built yet by this version.", advice="Build them one after the other.")
    chosen = writable(choose(drives[0], bay, sector_size))
    opened, plan = _plan(source, chosen, size, sector_size, added, choices_of(given))
    out = console()
    if not as_json:
        show_source(opened, [])
        show_plan(plan, layout=verbose, verbose=verbose)
    confirm(chosen, yes=yes, needed=plan.needed)
    proofs = prove(opened, sha256, verify_source, quiet=as_json)
    image = compose_drive(plan)
    if not as_json:
        heading(out, f"Building {chosen.name}")
    with open_for_writing(chosen, image.size, plan.needed) as target, Stages(quiet=as_json) as stages:
        result = build(image, target, stages, verify=not no_verify)
        report = check_drive(target, stages, sector_size=image.sector_size, contents=False)
    if no_verify:
        report.unknown.append("Nothing was read back (--no-verify): whether the drive kept what was written is not known.")
    if as_json:
        emit_json(
            "build",
            {"plan": plan_body(plan), "drive": str(chosen.path), "result": asdict(result), "proofs": proofs, "check": report_body(report)},
        )
        return 0 if report.healthy else 1
    for proof in proofs:
        out.print(f"  verified: {proof}")
    if not no_verify:
        out.print(f"  {shown_size(result.bytes_written)} written and read back alike")
    show_report(report, chosen.name, verbose=verbose)
    return 0 if report.healthy else 1


def _plan(
    path: Path, chosen: Chosen, size: int | None, sector_size: int | None, added: tuple[Path, ...], choices: Choices
) -> tuple[Source, Plan]:
    """Open the source, or the plan and its source, and decide."""
    from ..planning.planfile import open_planned_source, read_plan
    from ..planning.rules import make_plan, refuse_source_as_target
    from ..sources.source import open_source

    if path.suffix.lower() != ".toml" or path.is_dir():
        opened = open_source(path, added)
        refuse_source_as_target(opened, chosen.path)
        return opened, make_plan(opened, choices, chosen.shape(size))
    if added or any(getattr(choices, name) is not None for name in CHOICE_NAMES if name != "identity"):
        raise UsageError("A plan has its choices already.", advice="Edit the plan file, or build from the source itself.")
    saved = read_plan(path)
    opened = open_planned_source(saved, path)
    refuse_source_as_target(opened, chosen.path)
    own = Chosen(chosen.path, chosen.bay, chosen.drive, sector_size or (chosen.sector_size if chosen.drive else saved.drive.sector_size))
    settled = saved.choices
    if choices.identity is not None:
        import msgspec

        settled = msgspec.structs.replace(settled, identity=choices.identity)
    return opened, make_plan(opened, settled, own.shape(size or saved.drive.size))
