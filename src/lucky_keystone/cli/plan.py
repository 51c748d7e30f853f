"""`plan`: decisions with reasons, layout, forecast."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..outputs import OutputKind, refuse_output
from ..units import exact_size, shown_size
from .inspect import open_with_progress, prove, show_source
from .options import (
    Size,
    bay_option,
    choice_options,
    complete_drive,
    json_option,
    machine_of,
    machine_options,
    overwrite_option,
    replacing_of,
    source_options,
    verbose_option,
    with_option,
)
from .show import console, emit_json, facts, grid, heading, starts
from .targets import choose

if TYPE_CHECKING:
    from ..families.choices import Choices
    from ..planning.plan import Plan


@click.command(
    epilog="""\b
Examples:
  lucky-keystone plan installer.iso
  lucky-keystone plan installer.iso --for G7KM --bay tidewell/bay --figure drive.png
  lucky-keystone plan installer.iso --label CREW --save crew.toml"""
)
@click.argument("source", type=click.Path(path_type=Path))
@click.option(
    "--for",
    "drive",
    metavar="DRIVE",
    shell_complete=complete_drive,
    help="The drive to plan for: a tag of the bay, or an image file.",
)
@click.option("--size", type=Size(), metavar="SIZE", help="Size of an image file to be made; else as large as needed.")
@click.option("--sector-size", type=int, metavar="BYTES", help="Sector size of an image file: 512 or 4096.")
@choice_options
@with_option
@source_options
@machine_options
@click.option(
    "--save", type=click.Path(path_type=Path), metavar="FILE", help="Save the plan as TOML, to be edited and built."
)
@click.option(
    "--figure", type=click.Path(path_type=Path), metavar="FILE", help="Draw the drive to scale, as .png or .svg."
)
@overwrite_option
@bay_option
@json_option
@verbose_option
def command(
    source: Path,
    drive: str | None,
    size: int | None,
    sector_size: int | None,
    further: tuple[Path, ...],
    added: tuple[Path, ...],
    sha256: str | None,
    verify_source: bool,
    trust: tuple[Path, ...],
    revoked: tuple[Path, ...],
    model: str,
    save: Path | None,
    figure: Path | None,
    overwrite: bool,
    bay: Path | None,
    as_json: bool,
    verbose: bool,
    **given: Any,
) -> None:
    """Decide how a drive would be built from SOURCE: say why, where everything would lie, and where it would start."""
    from ..families.family import DriveShape
    from ..planning.make import make_plan

    opened = open_with_progress(source, added, quiet=as_json, further=further)
    chosen = choose(drive, bay, sector_size) if drive else None
    replacing = replacing_of(overwrite, *opened.places, *([chosen.path] if chosen else []))
    for path, kind in ((save, OutputKind.PLAN), (figure, OutputKind.FIGURE)):
        if path:
            refuse_output(path, kind, replacing)
    proofs = prove(opened, sha256, verify_source, quiet=as_json)
    shape = chosen.shape(size) if chosen else DriveShape("new drive", size, sector_size or 512)
    plan = make_plan(opened, choices_of(given), shape, machine=machine_of(trust, revoked, model))
    if save:
        from ..planning.planfile import save_plan

        save_plan(plan, save, replacing)
    if figure:
        from ..planning.figure import draw_plan

        draw_plan(plan, figure, replacing)
    if as_json:
        emit_json("plan", plan_body(plan))
        return
    show_source(opened, proofs)
    show_plan(plan, layout=True, verbose=verbose)
    for what, path in (("Plan saved", save), ("Figure drawn", figure)):
        if path:
            console().print(f"\n{what}: {path}")


_BY = {"you": "you", "plan": "the plan", "tool": ""}


def choices_of(given: dict[str, Any]) -> Choices:
    """Return the choices among a command's options."""
    from ..families.choices import CHOICE_NAMES, Choices

    return Choices(**{name: given[name] for name in CHOICE_NAMES})


def plan_body(plan: Plan) -> dict[str, Any]:
    """Return a plan for JSON output."""
    import msgspec

    return {
        "source": {"path": str(plan.source.path), "label": plan.source.label, "fingerprint": plan.source.fingerprint},
        "drive": {"name": plan.drive.name, "size": plan.drive.size, "sector_size": plan.drive.sector_size},
        "choices": msgspec.to_builtins(plan.choices),
        "decisions": msgspec.to_builtins(plan.decisions),
        "layout": [{"name": area.name, **msgspec.to_builtins(area)} for area in plan.areas],
        "splits": msgspec.to_builtins(plan.splits),
        "needed": plan.needed,
        "free": plan.free,
        "unused": plan.unused,
        "forecast": msgspec.to_builtins(plan.forecast),
    }


def show_plan(plan: Plan, *, layout: bool, verbose: bool) -> None:
    """Print decisions and forecast, and the layout when it is wanted."""
    out = console()
    heading(out, "Decisions")
    table = grid("", "", "Reason", "By")
    for decision in plan.decisions:
        table.add_row("  " + decision.topic, decision.value, decision.reason, _BY[decision.by])
    out.print(table)
    if layout:
        _show_layout(plan)
    if verbose:
        for split in plan.splits:
            out.print(f"\n  {split.path}, {exact_size(split.size)}, becomes")
            for name, size in split.parts:
                out.print(f"    {name}: {exact_size(size)}")
    heading(out, "Forecast")
    starts(out, plan.forecast)


def _show_layout(plan: Plan) -> None:
    out = console()
    heading(out, "Layout")
    table = grid("", ">Size", ">From byte", "")
    for area in plan.areas:
        table.add_row("  " + area.name, shown_size(area.size), f"{area.offset:,}", area.note)
    out.print(table)
    out.print()
    rows = [("Needed", exact_size(plan.needed)), ("Available", exact_size(plan.drive.size or 0))]
    facts(out, [*rows, ("Free after", exact_size(plan.free))] if plan.volumes else rows)
