"""`rehearse`: a start without a machine."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from ..units import SECTOR_SIZES
from .options import bay_option, complete_drive, json_option
from .show import console, emit_json, heading
from .targets import existing, reading


@click.command(
    epilog="""\b
Examples:
  lucky-keystone rehearse counter.img
  lucky-keystone rehearse G7KM --bay tidewell/bay --json"""
)
@click.argument("drive", shell_complete=complete_drive)
@click.option("--sector-size", type=click.Choice(SECTOR_SIZES), metavar="BYTES", help="Sector size, when it is an image file's.")
@bay_option
@json_option
def command(drive: str, sector_size: int | None, bay: Path | None, as_json: bool) -> int:
    """Run DRIVE's own BIOS boot code in a processor emulation, and tell each step and where it ends. Writes nothing.

    It stops where BOOTMGR takes over. Exit code 1 when it does not get there.
    """
    from ..rehearsal.rehearse import rehearse_bios

    chosen = existing(drive, bay, sector_size)
    with reading(chosen) as medium:
        found = rehearse_bios(medium, chosen.sector_size)
    if as_json:
        emit_json("rehearse", {"drive": str(chosen.path), "firmware": "BIOS", **asdict(found)})
        return 0 if found.starts else 1
    out = console()
    heading(out, f"Rehearsal of {chosen.name}, as BIOS")
    for number, step in enumerate(found.steps, 1):
        out.print(f"  {number}  {step}")
    out.print()
    out.print(found.end, style="bold green" if found.starts else "bold red")
    if not found.starts:
        out.print(f"'lucky-keystone check {chosen.name}' looks for the reason; building the drive again mends it.", style="dim")
    return 0 if found.starts else 1
