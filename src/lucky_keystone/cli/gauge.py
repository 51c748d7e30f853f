"""`gauge`: what a drive really holds, and how fast it is."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.errors import UsageError
from ..common.outputs import OutputKind, refuse_output
from ..common.units import exact_size, shown_size
from ..doing.logged import Logged
from ..doing.targets import existing, open_for_writing, reading
from .confirming import confirm
from .manner import manner
from .options import (
    bay_option,
    complete_drive,
    guard_options,
    output_options,
    overwrite_option,
    replacing_of,
)
from .show import console, emit_json, facts, heading, paragraph
from .stages import Stages

if TYPE_CHECKING:
    from ..doing.targets import Chosen
    from ..drives.guards import Guard
    from ..drives.medium import OpenMedium
    from ..gauging.gauge import Gauged, Mode
    from ..gauging.journal import FileJournal
    from ..gauging.rates import Rates
    from .documents import RatesBody

_LISTED = 6
_MODES = {
    "read": "only read; nothing was written",
    "marks": "marks were written, and what they overwrote was restored",
    "erase": "every byte was written and read back; its old contents are gone",
}


@click.command(
    epilog="""\b
Examples:
  lucky-keystone gauge G7KM --figure stick.png
  lucky-keystone gauge G7KM --marks
  lucky-keystone gauge G7KM --erase --unmount"""
)
@click.argument("drive", shell_complete=complete_drive)
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
    if marks and erase:
        raise UsageError("--marks and --erase cannot be combined.", advice="--erase writes everything, marks included.")
    if figure is not None:
        from ..gauging.figure import refuse_ending

        refuse_ending(figure)
    if restore:
        if marks or erase or whole or figure:
            raise UsageError(
                "--restore cannot be combined with other ways of measuring.",
                advice="Restore first, then measure the drive in a second run.",
            )
        return _restore(existing(drive, bay), lifted, yes=yes)
    mode: Mode = "erase" if erase else "marks" if marks else "read"
    chosen = existing(drive, bay)
    replacing = replacing_of(overwrite, chosen.path)
    if figure is not None:
        refuse_output(figure, OutputKind.FIGURE, replacing)
    found = _measure(chosen, mode, lifted, whole=whole, yes=yes)
    if figure is not None:
        from ..gauging.figure import draw_gauged

        draw_gauged(found, chosen.name, figure, replacing)
    if manner().as_json:
        _emit(chosen, found)
    else:
        _show(found, chosen.name, figure)
    return 0 if found.healthy else 1


def _measure(chosen: Chosen, mode: Mode, lifted: frozenset[Guard], *, whole: bool, yes: bool) -> Gauged:
    from ..gauging.gauge import gauge

    journal = chosen.journal()
    with Logged("gauge", chosen) as log, Stages() as stages:
        if mode == "read":
            if journal.path.exists():
                paragraph(
                    console(err=True),
                    f"Note: marks of an interrupted run are still on {chosen.name}. "
                    f"'lucky-keystone gauge {chosen.name} --restore' restores what they overwrote.",
                )
            with reading(chosen) as medium:
                found = gauge(_patient(medium), stages, mode, whole=whole)
        else:
            will = "erased" if mode == "erase" else "overwritten in places, and restored"
            confirm(chosen, yes=yes, needed=0, lifted=lifted, will=will)
            opened = open_for_writing(chosen, chosen.size, 0, lifted=lifted)
            try:
                if mode == "marks":
                    _put_back(opened, journal)
                else:
                    journal.clear()
                found = gauge(_patient(opened), stages, mode, whole=whole, journal=journal)
            finally:
                opened.close()
        log.healthy, log.detail = found.healthy, found.capacity.summary
        log.reading = round(found.reading.typical)
        log.writing = round(found.writing.typical) if found.writing else 0
    return found


def _restore(chosen: Chosen, lifted: frozenset[Guard], *, yes: bool) -> int:
    journal, count = chosen.journal(), 0
    if journal.read() is not None:
        confirm(chosen, yes=yes, needed=0, lifted=lifted, will="kept; only marks of an interrupted run are replaced")
        with Logged("gauge", chosen) as log:
            opened = open_for_writing(chosen, chosen.size, 0, lifted=lifted)
            try:
                count = _put_back(opened, journal)
            finally:
                opened.close()
            log.detail = "restored"
    if manner().as_json:
        from .documents import RestoreDocument

        emit_json(RestoreDocument(drive=str(chosen.path), places_restored=count))
    elif count:
        places = "1 place" if count == 1 else f"{count} places"
        paragraph(console(), f"{chosen.name}: restored and read back what marks had overwritten in {places}.")
    else:
        paragraph(console(), f"{chosen.name}: there are no marks of an interrupted run; nothing to restore.")
    return 0


def _put_back(medium: OpenMedium, journal: FileJournal) -> int:
    """Put back what a run that was cut off overwrote; return in how many places there was something to be put back."""
    from ..common.interrupts import HeldInterrupts
    from ..gauging.journal import put_back, refuse_lost

    kept = journal.read()
    if kept is None:
        journal.clear()  # of one that was cut off before its first entry
        return 0
    with HeldInterrupts():
        refuse_lost(put_back(medium, *kept), journal)
        journal.clear()
    return len(kept[1])


def _patient(medium: OpenMedium) -> OpenMedium:
    """A failing place is a result here, not an obstacle: it is tried once more and no longer."""
    from ..drives.retrying import Retrying

    return Retrying(medium.opened, pauses=(0.05,), most=1 << 30) if isinstance(medium, Retrying) else medium


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
    rows = [("How", _MODES[found.mode]), ("Claims to hold", exact_size(found.size))]
    if found.capacity.real_size is not None:
        rows.append(("Really holds", exact_size(found.capacity.real_size)))
    for word, rates in (("Reading", found.reading), ("Writing", found.writing)):
        if rates and rates.samples:
            span = f"between {_rate(rates.slowest)} and {_rate(rates.fastest)}"
            rows.append((word, f"typically {_rate(rates.typical)}, {span}, in {len(rates.samples):,} places"))
    if not manner().quiet:
        facts(out, rows)
    for word, rates in (("reading", found.reading), ("writing", found.writing)):
        for offset, size in (rates.bad if rates else [])[:_LISTED]:
            out.print(f"  FAULT  {word} fails at byte {offset:,}, for {shown_size(size)}", style="bad")
        if rates and len(rates.bad) > _LISTED:
            out.print(f"  FAULT  and in {len(rates.bad) - _LISTED} more places", style="bad")
    out.print()
    style = "bad" if found.capacity.is_fake else "good" if found.capacity.verdict == "holds" else "warn"
    paragraph(out, found.capacity.summary, style=style)
    paragraph(out, _next(found), style="quiet")
    if figure is not None:
        paragraph(out, f"Figure drawn: {figure}")


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
