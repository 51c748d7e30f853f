"""`check`: what a drive's own bytes say."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..units import SECTOR_SIZES, exact_size, shown_size
from .inspect import open_with_progress
from .options import add_option, bay_option, complete_drive, json_option, machine_of, machine_options, verbose_option
from .show import Stages, console, emit_json, facts, heading, starts
from .targets import existing, reading

if TYPE_CHECKING:
    from ..checking.report import Report

_MARKS = {
    "fault": ("FAULT", "bold red"),
    "start": ("start", "bold yellow"),
    "used": ("used", "bold yellow"),
    "note": ("note", "cyan"),
}


@click.command(
    epilog="""\b
Examples:
  lucky-keystone check counter.img
  lucky-keystone check G7KM --bay tidewell/bay --json"""
)
@click.argument("drive", shell_complete=complete_drive)
@click.option(
    "--sector-size",
    type=click.Choice(SECTOR_SIZES),
    metavar="BYTES",
    help="Sector size, when it cannot be told from the drive.",
)
@click.option(
    "--firmware",
    type=click.Choice(["bios", "uefi", "both"]),
    help="What the drive is to start on; what is missing for that is a fault. Else as its manifest says.",
)
@click.option(
    "--against",
    type=click.Path(path_type=Path),
    metavar="SOURCE",
    help="Compare every file with this source (disc image, folder, raw image).",
)
@add_option("With --against: a folder whose files were added to the source.")
@machine_options
@bay_option
@json_option
@verbose_option
def command(
    drive: str,
    sector_size: int | None,
    firmware: str | None,
    against: Path | None,
    added: tuple[Path, ...],
    trust: tuple[Path, ...],
    revoked: tuple[Path, ...],
    model: str,
    bay: Path | None,
    as_json: bool,
    verbose: bool,
) -> int:
    """Check DRIVE: table, volumes, every byte against its manifest, and the way it starts. Writes nothing.

    Exit code 1 when something is wrong. What a host changed by using a healthy drive is told as that.
    """
    from ..checking.check import check_drive
    from ..families.families import family_of

    if added and against is None:
        raise click.UsageError("--add goes with --against.")
    chosen = existing(drive, bay)
    source = open_with_progress(against, added, quiet=as_json) if against is not None else None
    if source is not None and (family := family_of(source)) is not None and source.root.entries:
        source = replace(source, root=family.on_drive(source))
    with reading(chosen) as medium, Stages(quiet=as_json) as stages:
        medium.forget_cache()
        known = sector_size or (chosen.drive.sector_size if chosen.drive else None)
        report = check_drive(
            medium,
            stages,
            sector_size=known,
            machine=machine_of(trust, revoked, model),
            kept=chosen.shelf().get(),
            firmware=firmware or "",
            against=source,
        )
    if as_json:
        emit_json("check", {"drive": str(chosen.path), **report_body(report)})
    else:
        show_report(report, chosen.name, verbose=verbose)
    return report.exit_code


def report_body(report: Report) -> dict[str, Any]:
    """Return a report for JSON output."""
    import msgspec

    return {"healthy": report.healthy, **msgspec.to_builtins(report)}


def show_report(report: Report, name: str, *, verbose: bool) -> None:
    """Print what a check found, and what to do."""
    out = console()
    heading(out, f"Check of {name}")
    rows = [
        (
            f"Volume {number}" if len(report.volumes) > 1 else "Volume",
            f"{volume.file_system} '{volume.label}', {volume.file_count:,} files in {volume.folder_count:,} folders, "
            f"{shown_size(volume.free)} free",
        )
        for number, volume in enumerate(report.volumes, 1)
    ] or [("Volume", "none that can be read")]
    if report.built_from:
        rows.append(("Built from", f"{report.built_from} by {report.built_by}"))
    if report.bytes_checked:
        rows.append(("Compared", f"{exact_size(report.bytes_checked)} with the manifest"))
    facts(out, rows)
    if verbose:
        heading(out, "Looked at")
        for line in report.looked_at:
            out.print(f"  {line}")
    if report.findings or report.unknown:
        heading(out, "Findings")
    for finding in report.findings:
        mark, style = _MARKS[finding.level]
        out.print(f"  {mark:<6}", style=style, end="")
        out.print(f"{finding.area}: {finding.what}")
        if finding.advice:
            out.print(f"          What next: {finding.advice}", style="dim")
    for line in report.unknown:
        out.print(f"  Unknown: {line}", style="yellow")
    if report.starts:
        heading(out, "Starts on")
        starts(out, report.starts)
    out.print()
    faults = sum(finding.level == "fault" for finding in report.findings)
    if faults:
        out.print(f"{faults} fault{'s' if faults > 1 else ''} found.", style="bold red")
    else:
        out.print(
            "No faults found." if not report.unknown else "No faults found in what could be checked.",
            style="bold green",
        )
