"""`data`: what the program keeps on this computer, and taking it away."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from ..common.errors import ProtectError
from ..common.units import counted, shown_size
from .headings import Command
from .manner import manner
from .options import output_options
from .question import ask, can_ask
from .show import Column, console, emit_json, paragraph, table

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from ..doing.own_data import KeptData


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone data
  lucky-keystone data --remove""",
)
@click.option(
    "--remove", is_flag=True, help="Delete the record, undo files and downloaded images; asks first. Presets stay."
)
@click.option("--yes", is_flag=True, help="Delete without asking. For scripts.")
@output_options
def command(remove: bool, yes: bool) -> None:
    """List what this program keeps on this computer: its record, undo files, downloaded images, presets.

    Nothing of it is ever sent anywhere. The record holds serial numbers of drives.
    """
    from ..doing.own_data import own_data, remove_data

    found = own_data()
    gone: list[Path] = []
    if remove:
        if not manner().as_json:
            _show(found)
        _confirm(found, yes=yes)
        gone = remove_data(found)
    if manner().as_json:
        from .shop_documents import DataBody, DataDocument

        bodies = [
            DataBody(
                what=each.what, place=str(each.place), files=len(each.files), size=each.size, why_kept=each.why_kept
            )
            for each in found
        ]
        emit_json(DataDocument(data=bodies, removed=[str(path) for path in gone]))
    elif remove:
        console().print(f"Removed: {counted(len(gone), 'file')}.", style="good")
    else:
        _show(found)


def _confirm(found: Sequence[KeptData], *, yes: bool) -> None:
    if yes:
        return
    if not can_ask():
        raise ProtectError("There is no terminal to confirm on.", advice="Add --yes when that is what you want.")
    count = sum(len(each.files) for each in found if not each.why_kept)
    if ask(f"Delete {counted(count, 'file')}? (yes, or Enter to leave it)").lower() != "yes":
        raise ProtectError("Nothing was deleted.", advice="Run the command again when you are sure.")


def _stays(kind: KeptData) -> str:
    return f"stays: {kind.why_kept}" if kind.why_kept and kind.files else ""


def _show(found: Sequence[KeptData]) -> None:
    rows = [
        (each.what, counted(len(each.files), "file"), shown_size(each.size), str(each.place), _stays(each))
        for each in found
    ]
    columns = [Column(), Column("", right=True), Column("Size", right=True), Column("Where", folds=True)]
    table(console(), [*columns, Column("", folds=True)], rows)
    paragraph(console(), "Drives themselves carry their manifest; nothing is sent anywhere.", style="quiet")
