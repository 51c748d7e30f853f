"""`check`: what a drive's own bytes say."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from msgspec.structs import fields, replace

from ..checking.codes import Code
from ..common.units import SECTOR_SIZES, counted, exact_size, shown_size
from ..doing.logged import Logged
from ..doing.targets import Chosen, finished, reading
from .brief import show_changed, show_verdicts
from .headings import Command
from .machine import show_machines
from .manner import manner
from .options import (
    SourcePlace,
    Word,
    add_option,
    authority_option,
    bay_option,
    drive_argument,
    machine_options,
    output_options,
    terms_of,
)
from .show import console, emit_json, facts, heading, marked, paragraph, starts
from .sources import open_alone
from .stages import Stages

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from ..checking.report import Finding, Report, VolumeSummary
    from ..doing.given import GivenMachines
    from ..fetching.link import Place
    from ..starting.outlook import Outlook
    from .documents import CheckBody

_OF_SECTOR_0 = (Code.START_NO_MBR_CODE, Code.START_FOREIGN_MBR_CODE)
_MARKS = {
    "fault": ("FAULT", "bad"),
    "start": ("start", "warn"),
    "used": ("used", "warn"),
    "note": ("note", "name"),
}


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone check counter.img
  lucky-keystone check G7KM --bay tidewell/bay --json""",
)
@drive_argument
@click.option(
    "--sector-size",
    type=Word(SECTOR_SIZES),
    metavar="BYTES",
    help="Sector size, where the drive does not show it.",
)
@click.option(
    "--firmware",
    type=Word(["bios", "uefi", "both"]),
    help="What the drive must start on; whatever it lacks for that is a fault. By default: what its manifest says.",
)
@click.option(
    "--against",
    type=SourcePlace(),
    metavar="SOURCE",
    multiple=True,
    help="Compare every file with this source (disc image, folder, raw image). Repeatable, for a drive of several "
    "sources, in the order in which they were given to build.",
)
@add_option("With --against: a folder whose files were added to the source.")
@authority_option
@machine_options
@bay_option
@output_options
def command(
    drive: str,
    sector_size: int | None,
    firmware: str | None,
    against: tuple[Place, ...],
    added: tuple[Path, ...],
    machines: GivenMachines,
    authority: Path | None,
    bay: Path | None,
) -> int:
    """Check DRIVE: table, volumes, every byte against its manifest, and the way it starts. Writes nothing.

    Exit code 1 when something is wrong. What a host changed by using a healthy drive is reported as such.
    """
    from ..checking.check import check_drive, find_sector_size

    if added and not against:
        raise click.UsageError("--add goes with --against.")
    chosen = finished(drive, bay)
    source = open_alone(against[0], terms_of(None, authority, bay), added, against[1:]) if against else None
    if source is not None and source.root.entries:
        from ..families.families import as_on_drive, family_on
        from ..starting.reading import read_drive

        with reading(chosen) as medium:
            size = sector_size or find_sector_size(medium, chosen.shelf().get())
            family = family_on(read_drive(medium, size, "the drive"), source)
        source = as_on_drive(family, source) if family is not None else source
    with Logged("check", chosen, source) as log, reading(chosen) as medium, Stages() as stages:
        medium.forget_cache()
        known = sector_size or (chosen.drive.sector_size if chosen.drive else None)
        report = check_drive(
            medium,
            stages,
            sector_size=known,
            machine=machines.machine(),
            kept=chosen.shelf().get(),
            firmware=firmware or "",
            against=source,
            machines=machines.known(),
        )
        log.tell_checked(report, medium.retries)
    mending = _advise_mending(report, chosen)
    if manner().as_json:
        from .documents import CheckDocument

        emit_json(CheckDocument(drive=str(chosen.path), **_report_fields(report)))
    else:
        show_report(report, chosen.name, said_once=mending)
    return report.exit_code


def _advise_mending(report: Report, chosen: Chosen) -> str:
    """Advise 'mend' for everything that can be mended; return that advice, '' where nothing can be."""
    if not any(each.level in ("fault", "start") for each in report.findings):
        return ""
    from ..mending.rules import CONSEQUENCES, can_be_mended  # takes its time to load

    line = f"'lucky-keystone mend {chosen.name if chosen.drive else chosen.path} --dry-run' shows how it can be mended"
    line += " without erasing it."
    mendable = [each.level in ("fault", "start") and can_be_mended(each) for each in report.findings]
    if any(can and each.code in _OF_SECTOR_0 for each, can in zip(report.findings, mendable, strict=True)):
        # That it differs from what was built says the same again.
        mendable = [can or _is_changed_sector_0(each) for each, can in zip(report.findings, mendable, strict=True)]
    if any(mendable):
        mendable = [can or each.code in CONSEQUENCES for each, can in zip(report.findings, mendable, strict=True)]
    report.findings = [
        replace(each, advice=line) if can else each for each, can in zip(report.findings, mendable, strict=True)
    ]
    return line if any(mendable) else ""


def _is_changed_sector_0(finding: Finding) -> bool:
    return finding.code is Code.CONTENT_CHANGED and finding.place.offset == 0


def check_body(report: Report) -> CheckBody:
    """Return a report for JSON output."""
    from .documents import CheckBody

    return CheckBody(**_report_fields(report))


def _report_fields(report: Report) -> dict[str, Any]:
    return {"healthy": report.healthy, **{field.name: getattr(report, field.name) for field in fields(report)}}


def show_report(report: Report, name: str, *, said_once: str = "", planned: Sequence[Outlook] | None = None) -> None:
    """Print what a check found, and what to do; the advice `said_once` of many findings comes at the end.

    After a build, whose forecast was `planned`, only what differs from it is shown.
    """
    out = console()
    is_brief = manner().quiet or (planned is not None and not manner().verbose)
    if not is_brief:
        heading(out, f"Check of {name}")
        facts(out, _summary(report))
    if manner().verbose:
        heading(out, "Examined")
        for line in report.looked_at:
            paragraph(out, line, indent=2, hanging=4)
    if report.findings or report.unknown:
        heading(out, "Findings")
    for finding in report.findings:
        _show_finding(out, finding, said_once)
    for line in report.unknown:
        paragraph(out, f"Unknown: {line}", style="warn", indent=2, hanging=11)
    if report.starts and not is_brief:
        heading(out, "Starts on")
        starts(out, report.starts) if manner().verbose else show_verdicts(report.starts)
    elif planned is not None and not manner().quiet:
        show_changed(planned, report.starts)
    if report.on_machines and not is_brief:
        show_machines(report.on_machines)
    if not is_brief:
        out.print()
    _conclude(out, report)
    if said_once:
        paragraph(out, said_once)


def _summary(report: Report) -> list[tuple[str, str]]:
    rows = [
        (
            f"Volume {number}" if len(report.volumes) > 1 else "Volume",
            f"{volume.file_system} '{volume.label}', {_contents(volume)}, {shown_size(volume.free)} free",
        )
        for number, volume in enumerate(report.volumes, 1)
    ] or [("Volume", "none that can be read")]
    if report.built_from:
        rows.append(("Built from", f"{report.built_from} by {report.built_by}"))
    if report.bytes_checked:
        rows.append(("Compared", f"{exact_size(report.bytes_checked)} with the manifest"))
    return rows


def _contents(volume: VolumeSummary) -> str:
    return f"{counted(volume.file_count, 'file')} in {counted(volume.folder_count, 'folder')}"


def _show_finding(out: Console, finding: Finding, said_once: str) -> None:
    mark, style = _MARKS[finding.level]
    area = "" if finding.area == finding.level else f"{finding.area}: "
    code = f" [{finding.code.value}]" if manner().verbose else ""
    words = marked(mark, style, f"{area}{finding.what}{code}")
    paragraph(out, words, indent=2, hanging=9)
    if finding.advice and finding.advice != said_once:
        paragraph(out, f"What next: {finding.advice}", style="quiet", indent=9, hanging=11)


def _conclude(out: Console, report: Report) -> None:
    faults = sum(finding.level == "fault" for finding in report.findings)
    if faults:
        out.print("1 fault found." if faults == 1 else f"{faults} faults found.", style="bad")
    elif report.unknown:
        out.print("No faults found in what could be checked.", style="good")
    else:
        out.print("No faults found.", style="good")
    for machine in report.refused_by:
        paragraph(out, f"{machine} will not start it.", style="bad")
