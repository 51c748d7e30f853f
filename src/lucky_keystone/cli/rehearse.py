"""`rehearse`: a start without a machine."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.outputs import OutputKind, refuse_output, with_maker, write_output
from ..common.units import SECTOR_SIZES
from ..doing.targets import finished, reading
from ..rehearsal.emulator import FIRMWARES
from .headings import Command
from .manner import manner
from .options import Word, bay_option, drive_argument, output_options, overwrite_option, replacing_of
from .show import console, emit_json, heading, paragraph

if TYPE_CHECKING:
    from rich.console import Console

    from ..doing.targets import Chosen

_SHOWN_LINES = 12


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone rehearse counter.img
  lucky-keystone rehearse G7KM --bay tidewell/bay --json
  lucky-keystone rehearse crew.img --firmware uefi-x64 --picture crew.png""",
)
@drive_argument
@click.option(
    "--firmware",
    type=Word(list(FIRMWARES)),
    help="Start it under this firmware; QEMU and the firmware must be installed.",
)
@click.option(
    "--picture",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Where to write the picture of the screen (.png).",
)
@click.option(
    "--seconds", type=click.IntRange(1, 3600), default=20, show_default=True, help="How long such a start may take."
)
@click.option(
    "--sector-size", type=Word(SECTOR_SIZES), metavar="BYTES", help="Sector size of an image file: 512 or 4096."
)
@overwrite_option
@bay_option
@output_options
def command(
    drive: str,
    firmware: str | None,
    picture: Path | None,
    seconds: int,
    sector_size: int | None,
    overwrite: bool,
    bay: Path | None,
) -> int:
    """Start DRIVE without a machine and report how far it gets. Nothing is written to it.

    By default the drive's BIOS boot code runs in a processor emulation, and each step is reported up to where BOOTMGR
    takes over; exit code 1 when it does not get there. With --firmware, an installed emulator (QEMU) starts the drive
    under real firmware; writes to the drive are discarded, and a picture of the screen is kept.
    """
    chosen = finished(drive, bay, sector_size)
    if firmware is not None:
        return _start_for_real(chosen, firmware, picture, seconds, overwrite=overwrite)
    if picture is not None:
        raise click.UsageError("--picture goes with --firmware: the built-in rehearsal has no screen.")
    from ..rehearsal.rehearse import rehearse_bios

    with reading(chosen) as medium:
        found = rehearse_bios(medium, chosen.sector_size)
    if manner().as_json:
        from .documents import RehearsalDocument

        emit_json(
            RehearsalDocument(
                drive=str(chosen.path),
                firmware="BIOS",
                starts=found.starts,
                steps=found.steps,
                end=found.end,
                sectors_read=found.sectors_read,
            )
        )
        return 0 if found.starts else 1
    out = console()
    heading(out, f"Rehearsal of {chosen.name}, as BIOS")
    for number, step in enumerate(found.steps, 1):
        paragraph(out, f"{number}  {step}", indent=2, hanging=5)
    out.print()
    paragraph(out, found.end, style="good" if found.starts else "bad")
    if not found.starts:
        words = f"'lucky-keystone check {chosen.name}' looks for the reason; building the drive again fixes it."
        paragraph(out, words, style="quiet")
    return 0 if found.starts else 1


def _start_for_real(chosen: Chosen, firmware: str, picture: Path | None, seconds: int, *, overwrite: bool) -> int:
    from ..rehearsal.emulator import start_drive

    place = picture or Path(f"{chosen.path.stem}-{firmware}.png")
    replacing = replacing_of(overwrite, chosen.path)
    refuse_output(place, OutputKind.FIGURE, replacing)
    found = start_drive(chosen.path, firmware, seconds=seconds, sector_size=chosen.sector_size)
    if found.picture:
        write_output(place, with_maker(found.picture), OutputKind.FIGURE, replacing)
    shown = place if found.picture else None
    if manner().as_json:
        from .documents import StartDocument

        emit_json(
            StartDocument(
                drive=str(chosen.path),
                firmware=FIRMWARES[firmware].name,
                picture=str(shown) if shown else None,
                serial=found.serial,
                screen=found.screen,
                ended=found.ended,
                seconds=found.seconds,
            )
        )
        return 0
    out = console()
    heading(out, f"{chosen.name}, started under {FIRMWARES[firmware].name} firmware")
    _show_lines(out, "On the serial port", found.serial)
    _show_lines(out, "On the screen", found.screen)
    how = "switched itself off" if found.ended else "was still running, and was stopped"
    out.print()
    paragraph(out, f"The machine {how} after {found.seconds:.1f} s. Nothing was written to the drive.")
    if shown:
        paragraph(out, f"The screen at the end: {shown}", style="bold")
    return 0


def _show_lines(out: Console, where: str, text: str) -> None:
    lines = [line.rstrip() for line in text.splitlines() if line.strip()]
    if lines:
        cut = f" (the last {_SHOWN_LINES} of {len(lines)} lines)" if len(lines) > _SHOWN_LINES else ""
        out.print(f"  {where}{cut}:", style="quiet")
    for line in lines[-_SHOWN_LINES:]:
        out.print(f"    {line}")
