"""`log`: the shop's record of what was built."""

from __future__ import annotations

import io
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..outputs import OutputKind, write_output
from ..units import shown_size
from .manner import manner
from .options import Word, output_options, overwrite_option, replacing_of
from .pace import shown_seconds
from .show import Column, console, emit_json, paragraph
from .show import table as show_table

if TYPE_CHECKING:
    from ..shoplog import LogEntry

_RESULTS = ("done", "faults", "failed", "refused", "interrupted")
_KINDS = ("build", "update", "reclaim", "gauge")


@click.command(
    epilog="""\b
Examples:
  lucky-keystone log
  lucky-keystone log --drive G7KM --since 2026-11-01
  lucky-keystone log --result failed --csv failed.csv"""
)
@click.option("--drive", metavar="TEXT", help="Only drives whose tag, model, serial number or file name contains this.")
@click.option("--source", metavar="TEXT", help="Only work from sources whose name or label contains this.")
@click.option(
    "--result",
    type=Word(_RESULTS),
    metavar="WORD",
    help="Only work with this result: done, faults, failed, refused or interrupted.",
)
@click.option(
    "--command",
    "kind",
    type=Word(_KINDS),
    metavar="WORD",
    help="Only this kind of work: build, update, reclaim or gauge.",
)
@click.option("--since", metavar="DATE", help="Only work since this day or moment (2026-11-28, 2026-11-28T14:00).")
@click.option(
    "--most",
    type=click.IntRange(1),
    default=None,
    metavar="N",
    help="Show at most N entries, newest first (default 20 on screen).",
)
@click.option(
    "--csv",
    "table",
    type=click.Path(path_type=Path, allow_dash=True),
    metavar="FILE",
    help="Write CSV to FILE ('-' for standard output).",
)
@overwrite_option
@output_options
def command(
    drive: str | None,
    source: str | None,
    result: str | None,
    kind: str | None,
    since: str | None,
    most: int | None,
    table: Path | None,
    overwrite: bool,
) -> None:
    """Show the shop's record: what was built on which drive from which source, and the result; newest first.

    The record is one file on this computer. LUCKY_KEYSTONE_LOG names another file, or 'off' for none.
    """
    from .. import shoplog

    if most is None and table is None and not manner().as_json:
        most = 20
    entries = shoplog.find(drive=drive, source=source, result=result, command=kind, since=since, most=most)
    if table is not None:
        text = io.StringIO()
        shoplog.write_csv(entries, text)
        if str(table) == "-":
            click.echo(text.getvalue(), nl=False)
            return
        write_output(table, text.getvalue().encode(), OutputKind.TABLE, replacing_of(overwrite))
    place = shoplog.place()
    if manner().as_json:
        from .documents import LogDocument

        emit_json(LogDocument(file=str(place) if place else None, entries=list(entries)))
        return
    out = console()
    if place is None:
        out.print("The shop's record is switched off (LUCKY_KEYSTONE_LOG).")
        return
    if not entries:
        nothing = "No entry matches" if place.exists() else "Nothing was recorded yet"
        paragraph(out, f"{nothing}. The record is {place}.")
        return
    columns = [Column("When (UTC)"), Column("What"), Column("Result"), Column("Drive", folds=True)]
    columns += [Column("From", folds=True), Column("Written", right=True), Column("Time", right=True)]
    show_table(out, [*columns, Column("Detail", folds=True)], [_row(entry) for entry in entries])
    if not manner().quiet:
        out.print()
        paragraph(out, f"{'1 entry' if len(entries) == 1 else f'{len(entries)} entries'}, from {place}", style="quiet")
    if table is not None:
        paragraph(out, f"Table written: {table}")


def _row(entry: LogEntry) -> tuple[str, ...]:
    retries = f"{entry.retries} {'retry' if entry.retries == 1 else 'retries'}" if entry.retries else ""
    serial = f" {entry.serial}" if manner().verbose and entry.serial else ""
    return (
        entry.moment.replace("T", " ").removesuffix("Z"),
        entry.command,
        entry.result,
        f"{entry.tag} {entry.model}{serial}".strip(),
        entry.label or entry.source,
        shown_size(entry.bytes_written) if entry.bytes_written else "",
        shown_seconds(entry.seconds) if entry.seconds else "",
        "; ".join(filter(None, (entry.detail, retries))),
    )
