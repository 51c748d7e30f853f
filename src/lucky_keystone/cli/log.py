"""`log`: the shop's record of what was built."""

from __future__ import annotations

import io
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common import places
from ..common.errors import ProtectError, UsageError
from ..common.outputs import OutputKind, write_output
from ..common.units import counted, shown_rates, shown_size
from ..shop.log import COMMANDS, RESULTS
from .completion import complete_drive
from .headings import Command
from .manner import manner
from .options import Word, output_options, overwrite_option, replacing_of
from .pace import shown_seconds
from .question import ask
from .show import Column, console, emit_json, heading, paragraph
from .show import table as show_table
from .streams import is_terminal

if TYPE_CHECKING:
    from ..shop.log import LogEntry
    from ..shop.trends import Trend


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone log
  lucky-keystone log --drive G7KM --since 2026-11-01
  lucky-keystone log --result failed --csv failed.csv
  lucky-keystone log --prune --before 2025-01-01""",
)
@click.option(
    "--drive",
    metavar="TEXT",
    shell_complete=complete_drive,
    help="Only drives whose tag, model, serial number or file name contains this.",
)
@click.option("--source", metavar="TEXT", help="Only work from sources whose name or label contains this.")
@click.option(
    "--result",
    type=Word(RESULTS),
    metavar="WORD",
    help="Only work with this result: done, faults, failed, refused or interrupted.",
)
@click.option(
    "--command",
    "kind",
    type=Word(COMMANDS),
    metavar="WORD",
    help=f"Only this kind of work: {', '.join(COMMANDS)}.",
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
@click.option("--prune", is_flag=True, help="With --before: remove entries, and undo files of finished repairs.")
@click.option("--before", metavar="DATE", help="With --prune: what is older than this day or moment.")
@click.option("--yes", is_flag=True, help="With --prune: do not ask.")
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
    prune: bool,
    before: str | None,
    yes: bool,
    overwrite: bool,
) -> None:
    """Show the shop's record: what was done to which drive from which source, and the result; newest first.

    With --drive it is that drive's history. Drives that get slower or fail are listed below. The
    record is one file on this computer. LUCKY_KEYSTONE_LOG names another file, or 'off' for none.
    """
    if prune or before or yes:
        if not (prune and before):
            raise UsageError("--prune and --before go together.", advice="Name the day: --prune --before 2025-01-01.")
        if any((drive, source, result, kind, since, most, table)):
            raise UsageError("--prune goes by the date alone.", advice="Leave the other choices out.")
        _prune(before, yes=yes)
        return
    filters = {"source": source, "result": result, "command": kind, "since": since}
    _show(drive, filters, most, table, overwrite=overwrite)


def _show(
    drive: str | None, filters: dict[str, str | None], most: int | None, table: Path | None, *, overwrite: bool
) -> None:
    """Show entries, or write them."""
    from ..shop import log as shoplog
    from ..shop import trends as shoptrends

    if most is None and table is None and not manner().as_json:
        most = 20
    history = shoplog.find(drive=drive)
    is_filtered = any(filters.values())
    entries = shoplog.find(drive=drive, most=most, **filters) if is_filtered else history[:most]
    if table is not None:
        text = io.StringIO()
        shoplog.write_csv(entries, text)
        if str(table) == "-":
            click.echo(text.getvalue(), nl=False)
            return
        write_output(table, text.getvalue().encode(), OutputKind.TABLE, replacing_of(overwrite))
    place = places.record()
    worse = shoptrends.trends(history)
    if manner().as_json:
        from .shop_documents import LogDocument

        emit_json(LogDocument(file=str(place) if place else None, entries=list(entries), trends=worse))
        return
    _print(entries, worse, place)
    if table is not None:
        paragraph(console(), f"Table written: {table}")


def _print(entries: Sequence[LogEntry], worse: Sequence[Trend], place: Path | None) -> None:
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
    _show_trends(worse)
    if not manner().quiet:
        out.print()
        paragraph(out, f"{'1 entry' if len(entries) == 1 else f'{len(entries)} entries'}, from {place}", style="quiet")


def _show_trends(worse: Sequence[Trend]) -> None:
    if not worse:
        return
    out = console()
    heading(out, "Getting worse")
    for each in worse:
        paragraph(out, f"{each.tag}: {each.what}.", style="warn", indent=2, hanging=4)
        paragraph(out, f"What next: {each.advice}", style="quiet", indent=4, hanging=6)


def _prune(before: str, *, yes: bool) -> None:
    """Remove what is old, after a question."""
    from ..mending.journal import finished_before
    from ..shop import log as shoplog

    moment, out = shoplog.moment_of(before), console()
    count, journals = shoplog.older_than(moment), finished_before(places.journals(), moment)
    size = sum(each.stat().st_size for each in journals)
    what = f"{counted(count, 'entry', 'entries')} and {counted(len(journals), 'undo file')} of finished repairs"
    what += f" ({shown_size(size)})" if journals else ""
    if (count or journals) and not yes:
        if not is_terminal(sys.stdin):
            raise ProtectError(
                f"{what} from before {before} would be removed, and there is no terminal to confirm on.",
                advice="Add --yes when that is what you want.",
            )
        paragraph(
            console(err=True), f"{what} from before {before} will be removed; those repairs can no longer be undone."
        )
        if ask("Type prune to continue").lower() != "prune":
            raise ProtectError("Nothing was removed.", advice="Run the command again when you are sure.")
    removed = shoplog.prune(moment)
    for path in journals:
        path.unlink(missing_ok=True)
    if manner().as_json:
        from .shop_documents import LogPruneDocument

        emit_json(LogPruneDocument(before=moment, entries_removed=removed, journals_removed=list(map(str, journals))))
    else:
        paragraph(out, f"Removed: {what}." if removed or journals else f"Nothing is older than {before}.")


def _row(entry: LogEntry) -> tuple[str, ...]:
    retries = f"{entry.retries} {'retry' if entry.retries == 1 else 'retries'}" if entry.retries else ""
    rates = shown_rates(entry.reading, entry.writing)
    serial = f" {entry.serial}" if manner().verbose and entry.serial else ""
    return (
        entry.moment.replace("T", " ").removesuffix("Z"),
        entry.command,
        entry.result,
        f"{entry.tag} {entry.model}{serial}".strip(),
        entry.label or entry.source,
        shown_size(entry.bytes_written) if entry.bytes_written else "",
        shown_seconds(entry.seconds) if entry.seconds else "",
        "; ".join(filter(None, (entry.detail.rstrip("."), rates, retries))),
    )
