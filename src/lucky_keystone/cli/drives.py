"""`drives`: what is attached."""

from __future__ import annotations

from pathlib import Path

import click
from rich.text import Text

from ..drives.bay import list_bay
from ..drives.contents import describe
from ..drives.drive import Drive, held_back
from ..drives.image_file import ImageFile
from ..errors import UsageError
from ..units import shown_size, sold_size
from .options import bay_option, json_option
from .show import console, emit_json


@click.command(
    epilog="""\b
Examples:
  lucky-keystone drives --bay tidewell/bay
  lucky-keystone drives --bay tidewell/bay --json"""
)
@bay_option
@json_option
def command(bay: Path | None, as_json: bool) -> None:
    """List drives: tag, size as sold and as shown, what is on them, free or held back.

    This version lists the drives of a bay (a folder of simulated drives); image files need no listing.
    """
    if bay is None:
        raise UsageError(
            "Which drives? This version lists those of a bay.",
            advice="Give --bay FOLDER; 'lucky-keystone demo FOLDER' makes one in FOLDER/bay.",
        )
    drives = list_bay(bay)
    rows = []
    for drive in drives:
        with ImageFile(drive.path) as image:
            rows.append((drive, describe(image, drive.sector_size), held_back(drive, drives)))
    if as_json:
        emit_json(
            "drives",
            {
                "bay": str(bay),
                "drives": [
                    {
                        "tag": d.tag,
                        "model": d.model,
                        "serial": d.serial,
                        "size": d.size,
                        "sector_size": d.sector_size,
                        "bus": d.bus,
                        "speed": d.speed,
                        "removable": d.removable,
                        "contents": contents,
                        "held_back": list(reasons),
                    }
                    for d, contents, reasons in rows
                ],
            },
        )
        return
    out = console()
    for drive, contents, reasons in rows:
        state = ("held back", "bold red") if reasons else ("free", "bold green")
        sizes = f"sold as {sold_size(drive.size)}, shown as {shown_size(drive.size)}"
        out.print(Text.assemble((drive.tag, "bold"), f"  {drive.model}, {sizes}, {_connection(drive)}  ", state))
        out.print(f"      on it: {contents}", style="dim")
        for reason in reasons:
            out.print(f"      it {reason}", style="dim")
    free = sum(not reasons for _, _, reasons in rows)
    out.print(f"\n{free} of {len(rows)} drives may be written. Name one by its tag: --onto TAG" if free else "\nNo drive may be written.")


def _connection(drive: Drive) -> str:
    return drive.speed if drive.bus in drive.speed else f"{drive.bus} {drive.speed}".strip()
