"""`plan`: decisions with reasons, layout, forecast."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..common.errors import UsageError
from ..common.outputs import OutputKind, refuse_output
from ..common.shell import command_line
from ..common.units import SECTOR_SIZES, exact_size, shown_size
from .brief import show_brief_machines, show_verdicts
from .choosing import answered
from .completion import complete_drive
from .headings import Command
from .layout import show_sketch
from .manner import manner
from .options import (
    Size,
    SourcePlace,
    Word,
    bay_option,
    choice_options,
    machine_options,
    output_options,
    overwrite_option,
    preset_options,
    replacing_of,
    setup_options,
    source_options,
    with_option,
)
from .show import Column, console, emit_json, facts, heading, paragraph, starts, table
from .source_page import show_source
from .sources import open_given, prove, resolved

if TYPE_CHECKING:
    from ..common.outputs import Replacing
    from ..doing.given import GivenMachines, GivenPreset, GivenSource
    from ..doing.targets import Chosen
    from ..families.asking import Shortfall
    from ..fetching.link import Place
    from ..machine.known import KnownMachine
    from ..planning.plan import Plan
    from .documents import PlanBody


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone plan installer.iso
  lucky-keystone plan installer.iso --for G7KM --bay tidewell/bay --figure drive.png
  lucky-keystone plan installer.iso --label CREW --save crew.toml
  lucky-keystone plan https://images.tidewell.example/tidewell-12.iso --sha256 SUM""",
)
@click.argument("source", type=SourcePlace())
@click.option(
    "--for",
    "drive",
    metavar="DRIVE",
    shell_complete=complete_drive,
    help="The drive to plan for: a tag, a device, or an image file.",
)
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
    "--save", type=click.Path(path_type=Path), metavar="FILE", help="Save the plan as TOML, to be edited and built."
)
@click.option(
    "--figure", type=click.Path(path_type=Path), metavar="FILE", help="Draw the drive to scale, as .png or .svg."
)
@click.option("--layout", is_flag=True, help="Print the same drawing as text.")
@overwrite_option
@bay_option
@output_options
def command(
    source: Place,
    drive: str | None,
    size: int | None,
    sector_size: int | None,
    choices: Mapping[str, Any],
    given: GivenSource,
    machines: GivenMachines,
    preset: GivenPreset,
    save: Path | None,
    figure: Path | None,
    layout: bool,
    overwrite: bool,
    bay: Path | None,
) -> None:
    """Decide how a drive would be built from SOURCE: say why, where everything would lie, and where it would start."""
    from ..doing.given import asked_for
    from ..families.family import DriveShape
    from ..planning.make import make_plan
    from ..sources.locating import naming_files

    _refuse_plan_file(source)
    place, terms = resolved(source, given, bay)
    opened = open_given(place, given, terms)
    chosen = _chosen(drive, bay, sector_size) if drive else None
    replacing = replacing_of(overwrite, *opened.places, *([chosen.path] if chosen else []))
    for path, kind in ((save, OutputKind.PLAN), (figure, OutputKind.FIGURE)):
        if path:
            refuse_output(path, kind, replacing)
    asked = asked_for(choices, preset, machines)
    proofs = prove(opened, terms.sha256 or None, given.verify)
    shape = chosen.shape(size) if chosen else DriveShape("new drive", size, sector_size or 512)
    with naming_files(opened):
        wanted = answered(opened, asked.choices)
        plan = make_plan(opened, wanted, shape, (), asked.machine, asked.earlier, asked.machines)
    _keep(plan, save, figure, replacing)
    if manner().as_json:
        _emit(plan, asked.machines)
        return
    if manner().quiet:
        show_forecast(plan, asked.machines)
        return
    show_source(opened, proofs)
    show_plan(plan, layout=manner().verbose and not layout, machines=asked.machines)
    if layout:
        from ..planning.sketch import sketch

        show_sketch(console(), sketch(plan))
    for what, path in (("Plan saved", save), ("Figure drawn", figure)):
        if path:
            console().print(f"\n{what}: {path}")
    if chosen is not None:
        _tell_held_back(chosen)


def _refuse_plan_file(source: Place) -> None:
    from ..doing.given import is_plan_file

    if is_plan_file(source):
        line = command_line(["build", str(source), "--onto", "DRIVE"])
        raise UsageError(f"{source} is a saved plan already.", advice=f"To build it: {line}")


def _chosen(drive: str, bay: Path | None, sector_size: int | None) -> Chosen:
    from ..doing.targets import choose

    return choose(drive, bay, sector_size)


def _tell_held_back(chosen: Chosen) -> None:
    from ..drives.guards import held_back

    if chosen.drive is not None and (reasons := held_back(chosen.drive)):
        console().print()
        words = f"{chosen.name} is protected, and would not be written as it is now: it {'; it '.join(reasons)}."
        paragraph(console(), words, style="warn")


def _keep(plan: Plan, save: Path | None, figure: Path | None, replacing: Replacing) -> None:
    if save:
        from ..planning.planfile import save_plan

        save_plan(plan, save, replacing)
    if figure:
        from ..planning.figure import draw_plan

        draw_plan(plan, figure, replacing)


_BY = {"you": "you", "plan": "the plan", "preset": "the preset", "machines": "the machines", "tool": ""}


def plan_body(plan: Plan) -> PlanBody:
    """Return a plan for JSON output."""
    from .documents import PlanBody

    return PlanBody(**_plan_fields(plan))


def _emit(plan: Plan, machines: Sequence[KnownMachine]) -> None:
    from ..machine.known import outlooks_of
    from .documents import PlanDocument

    rows = outlooks_of(machines, plan.bootable)
    emit_json(PlanDocument(**_plan_fields(plan), on_machines=rows, shortfalls=shortfalls_of(plan, machines)))


def shortfalls_of(plan: Plan, machines: Sequence[KnownMachine]) -> tuple[Shortfall, ...]:
    """Return where machines do not have what a release asks for."""
    from ..families.asking import shortfalls
    from ..families.families import facts_of

    return shortfalls([each.facts for each in machines], facts_of(plan.source), plan.choices.waive) if machines else ()


def _plan_fields(plan: Plan) -> dict[str, Any]:
    from .documents import AreaBody, PlannedFor, PlannedSource

    source, drive = plan.source, plan.drive
    return {
        "source": PlannedSource(path=str(source.path), label=source.label, fingerprint=source.fingerprint),
        "drive": PlannedFor(name=drive.name, size=drive.size, sector_size=drive.sector_size),
        "choices": plan.choices,
        "decisions": plan.decisions,
        "layout": [
            AreaBody(
                name=area.name, part=area.part, offset=area.offset, size=area.size, note=area.note, title=area.title
            )
            for area in plan.areas
        ],
        "splits": plan.splits,
        "needed": plan.needed,
        "free": plan.free,
        "unused": plan.unused,
        "forecast": plan.forecast,
    }


def show_plan(plan: Plan, *, layout: bool, machines: Sequence[KnownMachine] = ()) -> None:
    """Print decisions and forecast, and the layout when it is wanted."""
    out = console()
    heading(out, "Decisions")
    table(
        out,
        [Column(), Column(folds=True), Column("Reason", folds=True), Column("By", named=True)],
        [(decision.topic, decision.value, decision.reason, _BY[decision.by]) for decision in plan.decisions],
        spoken=_speak_decision,
    )
    if layout:
        _show_layout(plan)
    else:
        out.print()
        clusters = f", with clusters of {shown_size(plan.choices.cluster)}" if plan.choices.cluster else ""
        facts(out, [("Needed", f"{exact_size(plan.needed)}{clusters}; -v lists what lies where")])
    if manner().verbose:
        for split in plan.splits:
            out.print(f"\n  {split.path}, {exact_size(split.size)}, is split into")
            for name, size in split.parts:
                out.print(f"    {name}: {exact_size(size)}")
    heading(out, "Forecast")
    starts(out, plan.forecast) if manner().verbose else show_verdicts(plan.forecast)
    if machines:
        from ..machine.known import outlooks_of
        from .machine import show_machines, show_shortfalls

        show_machines(outlooks_of(machines, plan.bootable))
        show_shortfalls(shortfalls_of(plan, machines))


def show_forecast(plan: Plan, machines: Sequence[KnownMachine]) -> None:
    """Print in a few lines where a drive starts, the machines that it is for before everything else."""
    if machines:
        from ..machine.known import outlooks_of
        from .machine import show_shortfalls

        show_brief_machines(outlooks_of(machines, plan.bootable))
        show_shortfalls(shortfalls_of(plan, machines))
        console().print()
    show_verdicts(plan.forecast)


def _speak_decision(row: Sequence[str]) -> str:
    topic, value, reason, by = row
    return f"{topic}: {value}; {reason}{f'; decided by {by}' if by else ''}"


def _show_layout(plan: Plan) -> None:
    out = console()
    heading(out, "Layout")
    table(
        out,
        [Column(), Column("Size", right=True), Column("From byte", right=True), Column(folds=True)],
        [(area.name, shown_size(area.size), f"{area.offset:,}", area.note) for area in plan.areas],
        spoken=lambda row: f"{row[0]}: {row[1]} from byte {row[2]}{f'; {row[3]}' if row[3] else ''}",
    )
    out.print()
    rows = [("Needed", exact_size(plan.needed)), ("Available", exact_size(plan.drive.size or 0))]
    facts(out, [*rows, ("Free after", exact_size(plan.free))] if plan.volumes else rows)
