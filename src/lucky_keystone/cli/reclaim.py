"""`reclaim`: a drive given back to ordinary storage."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

from ..common.units import shown_size
from ..doing.after import eject, tell_system
from ..doing.logged import Logged
from ..doing.targets import existing, open_for_writing
from .confirming import confirm
from .manner import manner
from .options import Size, Word, bay_option, complete_drive, guard_options, output_options
from .show import console, emit_json, paragraph
from .stages import Stages

if TYPE_CHECKING:
    from ..drives.guards import Guard


@click.command(
    epilog="""\b
Examples:
  lucky-keystone reclaim G7KM
  lucky-keystone reclaim G7KM --label TIMETABLES --unmount --eject"""
)
@click.argument("drive", shell_complete=complete_drive)
@click.option(
    "--label",
    default="STORAGE",
    show_default=True,
    metavar="TEXT",
    help="Volume label: FAT32 and exFAT up to 11 characters, NTFS 32.",
)
@click.option(
    "--file-system", type=Word(["fat32", "ntfs", "exfat"]), default="fat32", show_default=True, help="Its file system."
)
@click.option("--cluster", type=Size(), metavar="SIZE", help="Cluster size; the usual one for the size when left out.")
@click.option("--sector-size", type=int, metavar="BYTES", help="Sector size of an image file: 512 or 4096.")
@click.option("--eject", "ejecting", is_flag=True, help="Eject the drive when done.")
@guard_options
@bay_option
@output_options
def command(
    drive: str,
    label: str,
    cluster: int | None,
    file_system: Literal["fat32", "ntfs", "exfat"],
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
    from ..building.build import build
    from ..building.reclaim import compose_storage
    from ..volumes.kinds import COMPOSED

    chosen = existing(drive, bay, sector_size)
    image = compose_storage(chosen.shape(None), label, cluster, file_system)
    with Logged("reclaim", chosen) as log:
        confirm(chosen, yes=yes, needed=0, lifted=lifted)
        medium = open_for_writing(chosen, image.size, 0, lifted=lifted)
        try:
            chosen.journal().clear()
            with Stages() as stages:
                result = build(image, medium, stages, resume=False, shelf=chosen.shelf())
            notes = tell_system(chosen, medium, image.partitions)
        finally:
            log.retries = medium.retries
            medium.close()
        log.bytes_written = result.bytes_written
    if ejecting:
        notes += eject(chosen)
    kind = COMPOSED[file_system]
    label = kind.stored_label(label)
    if manner().as_json:
        from .documents import ReclaimDocument

        emit_json(
            ReclaimDocument(
                drive=str(chosen.path), label=label, file_system=file_system, result=result, notes=list(notes)
            )
        )
        return
    out = console()
    volume = image.partitions[0].size
    now = f"one {kind.shown} volume '{label}' of {shown_size(volume)}"
    paragraph(out, f"{chosen.name} is ordinary storage again: {now}.", style="good")
    unused = image.size - volume - image.partitions[0].offset
    if unused > 64 << 20:
        paragraph(out, f"{shown_size(unused)} at its end are beyond what an MBR can describe.", indent=2)
    for note in notes:
        paragraph(out, note, indent=2, hanging=4)
