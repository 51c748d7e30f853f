"""`reclaim`: a drive given back to ordinary storage."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.units import SECTOR_SIZES, shown_size
from ..doing.after import eject
from ..doing.targets import existing
from ..volumes.kinds import FOR_STORAGE
from .dialogue import TerminalDialogue
from .headings import Command
from .manner import manner
from .options import Size, Word, bay_option, drive_argument, guard_options, output_options
from .show import console, emit_json, paragraph

if TYPE_CHECKING:
    from ..drives.guards import Guard

_WORTH_TELLING = 64 << 20
"""Bytes behind the volume from which on they are told."""


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone reclaim G7KM
  lucky-keystone reclaim G7KM --label TIMETABLES --unmount --eject""",
)
@drive_argument
@click.option(
    "--label",
    default="STORAGE",
    show_default=True,
    metavar="TEXT",
    help=f"Volume label: {'; '.join(f'{kind.shown} {kind.label_rule}' for kind in FOR_STORAGE.values())}.",
)
@click.option("--file-system", type=Word(FOR_STORAGE), default="fat32", show_default=True, help="Its file system.")
@click.option("--cluster", type=Size(), metavar="SIZE", help="Cluster size; the usual one for the size when left out.")
@click.option(
    "--sector-size", type=Word(SECTOR_SIZES), metavar="BYTES", help="Sector size of an image file: 512 or 4096."
)
@click.option("--eject", "ejecting", is_flag=True, help="Eject the drive when done.")
@guard_options
@bay_option
@output_options
def command(
    drive: str,
    label: str,
    cluster: int | None,
    file_system: str,
    sector_size: int | None,
    ejecting: bool,
    yes: bool,
    lifted: frozenset[Guard],
    bay: Path | None,
) -> None:
    """Erase DRIVE and give it one empty volume, as ordinary storage.

    FAT32, which every system reads and writes; exFAT for files of 4 GiB and more between Windows, Macs and Linux; or
    NTFS.
    """
    from ..doing.reclaim import reclaim

    chosen = existing(drive, bay, sector_size)
    done = reclaim(chosen, TerminalDialogue(yes=yes, lifted=lifted), lifted, label, cluster, file_system)
    if ejecting:
        done.notes.extend(eject(chosen))
    if manner().as_json:
        from .documents import ReclaimDocument

        emit_json(
            ReclaimDocument(
                drive=str(chosen.path),
                label=done.label,
                file_system=file_system,
                result=done.result,
                notes=done.notes,
            )
        )
        return
    out = console()
    now = f"one {done.shown_kind} volume '{done.label}' of {shown_size(done.size)}"
    paragraph(out, f"{chosen.name} is ordinary storage again: {now}.", style="good")
    if done.beyond > _WORTH_TELLING:
        paragraph(out, f"{shown_size(done.beyond)} at its end are beyond what an MBR can describe.", indent=2)
    for note in done.notes:
        paragraph(out, note, indent=2, hanging=4)
