"""`gauge`: what a drive really holds, and how fast it is."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.errors import UsageError
from ..common.outputs import OutputKind, refuse_output
from ..common.units import counted, exact_size, shown_size
from ..doing.targets import existing
from .dialogue import TerminalDialogue
from .headings import Command
from .manner import manner
from .options import (
    bay_option,
    drive_argument,
    guard_options,
    output_options,
    overwrite_option,
    replacing_of,
)
from .show import console, emit_json, facts, heading, marked, paragraph

if TYPE_CHECKING:
    from rich.console import Console

    from ..doing.gauge import GaugeRun
    from ..doing.targets import Chosen
    from ..drives.guards import Guard
    from ..gauging.gauge import Gauged, Mode
    from ..gauging.rates import Rates
    from .documents import RatesBody

_LISTED = 6
_MODES = {
    "read": "only read; nothing was written",
    "marks": "marks were written, and what they overwrote was restored",
    "erase": "every byte was written and read back; its old contents are gone",
}


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone gauge G7KM --figure stick.png
  lucky-keystone gauge G7KM --marks
  lucky-keystone gauge G7KM --erase --unmount""",
)
@drive_argument
@click.option(
    "--marks", is_flag=True, help="Write marks along its length, read them, and restore what was there: finds fakes."
)
@click.option("--erase", is_flag=True, help="Write and read back every byte. Everything on the drive is lost.")
@click.option("--restore", is_flag=True, help="Only restore what marks of an interrupted run overwrote.")
@click.option("--whole", is_flag=True, help="Read all of it, not just samples: finds every bad area.")
@click.option(
    "--figure", type=click.Path(path_type=Path), metavar="FILE", help="Draw rates and bad areas, as .png or .svg."
)
@overwrite_option
@guard_options
@bay_option
@output_options
def command(
    drive: str,
    marks: bool,
    erase: bool,
    restore: bool,
    whole: bool,
    figure: Path | None,
    overwrite: bool,
    yes: bool,
    lifted: frozenset[Guard],
    bay: Path | None,
) -> int:
    """Measure DRIVE: what it really holds, its rates over the whole length, bad areas.

    Without --marks or --erase it only reads.

    Reading alone cannot expose every fake: that takes --marks. Exit code 1 when something is wrong with it.
    """
    from ..doing.gauge import GaugeRun

    mode = _mode(marks=marks, erase=erase)
    if restore:
        if mode != "read" or whole or figure:
            raise UsageError(
                "--restore cannot be combined with other ways of measuring.",
                advice="Restore first, then measure the drive in a second run.",
            )
        return _restore(GaugeRun(existing(drive, bay), TerminalDialogue(yes=yes, lifted=lifted), lifted))
    if figure is not None:
        from ..gauging.figure import refuse_ending

        refuse_ending(figure)
    chosen = existing(drive, bay)
    replacing = replacing_of(overwrite, chosen.path)
    if figure is not None:
        refuse_output(figure, OutputKind.FIGURE, replacing)
    found = GaugeRun(chosen, TerminalDialogue(yes=yes, lifted=lifted), lifted).measure(mode, whole=whole)
    if figure is not None:
        from ..gauging.figure import draw_gauged

        draw_gauged(found, chosen.name, figure, replacing)
    if manner().as_json:
        _emit(chosen, found)
    else:
        _show(found, chosen.name, figure)
    return 0 if found.healthy else 1


def _mode(*, marks: bool, erase: bool) -> Mode:
    if marks and erase:
        raise UsageError("--marks and --erase cannot be combined.", advice="--erase writes everything, marks included.")
    if erase:
        return "erase"
    return "marks" if marks else "read"


def _restore(run: GaugeRun) -> int:
    count, chosen = run.restore(), run.chosen
    if manner().as_json:
        from .documents import RestoreDocument

        emit_json(RestoreDocument(drive=str(chosen.path), places_restored=count))
    elif count:
        paragraph(
            console(), f"{chosen.name}: restored and read back what marks had overwritten in {counted(count, 'place')}."
        )
    else:
        paragraph(console(), f"{chosen.name}: there are no marks of an interrupted run; nothing to restore.")
    return 0


def _emit(chosen: Chosen, found: Gauged) -> None:
    from .documents import GaugeDocument

    capacity = found.capacity
    emit_json(
        GaugeDocument(
            drive=str(chosen.path),
            mode=found.mode,
            healthy=found.healthy,
            claimed_size=capacity.claimed,
            capacity=capacity.verdict,
            real_size=capacity.real_size,
            summary=capacity.summary,
            reading=_rates(found.reading),
            writing=_rates(found.writing) if found.writing else None,
        )
    )


def _rates(rates: Rates) -> RatesBody:
    from .documents import RatesBody

    return RatesBody(
        typical=round(rates.typical),
        slowest=round(rates.slowest),
        fastest=round(rates.fastest),
        bad=rates.bad,
        samples=[(sample.offset, sample.size, round(sample.seconds, 6)) for sample in rates.samples],
    )


def _show(found: Gauged, name: str, figure: Path | None) -> None:
    out = console()
    heading(out, f"Gauge of {name}")
    if not manner().quiet:
        _show_rates(out, found)
    _show_faults(out, "reading", found.reading)
    if found.writing:
        _show_faults(out, "writing", found.writing)
    out.print()
    style = "bad" if found.capacity.is_fake else "good" if found.capacity.verdict == "holds" else "warn"
    paragraph(out, found.capacity.summary, style=style)
    paragraph(out, _next(found), style="quiet")
    if figure is not None:
        paragraph(out, f"Figure drawn: {figure}")


def _show_rates(out: Console, found: Gauged) -> None:
    rows = [("How", _MODES[found.mode]), ("Claims to hold", exact_size(found.size))]
    if found.capacity.real_size is not None:
        rows.append(("Really holds", exact_size(found.capacity.real_size)))
    for word, rates in (("Reading", found.reading), ("Writing", found.writing)):
        if rates and rates.samples:
            span = f"between {_rate(rates.slowest)} and {_rate(rates.fastest)}"
            rows.append((word, f"typically {_rate(rates.typical)}, {span}, in {len(rates.samples):,} places"))
    facts(out, rows)


def _show_faults(out: Console, doing: str, rates: Rates) -> None:
    for offset, size in rates.bad[:_LISTED]:
        paragraph(out, marked("FAULT", "bad", f"{doing} fails at byte {offset:,}, for {shown_size(size)}"), indent=2)
    if len(rates.bad) > _LISTED:
        paragraph(out, marked("FAULT", "bad", f"and in {len(rates.bad) - _LISTED} more places"), indent=2)


def _next(found: Gauged) -> str:
    if found.capacity.is_fake:
        return "It is a fake: return it. Data beyond its real size will be lost."
    if not found.healthy:
        return "Do not trust it with anything: replace it."
    if found.capacity.verdict == "not known":
        return "To find out what it really holds: --marks (seconds; it restores what was there) or --erase (loses all)."
    return "Nothing is wrong with it where it was measured."


def _rate(rate: float) -> str:
    return f"{rate / 1e6:,.0f} MB/s" if rate >= 1e7 else f"{rate / 1e6:.1f} MB/s"
