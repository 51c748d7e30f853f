"""`log`: the shop's record of what was built."""

from __future__ import annotations

import io
from dataclasses import asdict
from pathlib import Path

import click

from ..outputs import OutputKind, write_output
from ..units import shown_size
from .options import json_option, overwrite_option, replacing_of
from .show import console, emit_json, grid


@click.command(
    epilog="""\b
Examples:
  lucky-keystone log
  lucky-keystone log --drive G7KM --since 2026-11-01
  lucky-keystone log --result failed --csv failed.csv"""
)
@click.option("--drive", metavar="TEXT", help="Only drives whose tag, model, serial or file name has this in it.")
@click.option("--source", metavar="TEXT", help="Only work from sources whose name or label has this in it.")
@click.option("--result", metavar="WORD", help="Only work that ended so: done, faults, failed, refused, interrupted.")
@click.option("--command", "kind", metavar="WORD", help="Only this kind of work: build, update, reclaim, gauge.")
@click.option("--since", metavar="DATE", help="Only work since this day or moment.")
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
@json_option
def command(
    drive: str | None,
    source: str | None,
    result: str | None,
    kind: str | None,
    since: str | None,
    most: int | None,
    table: Path | None,
    overwrite: bool,
    as_json: bool,
) -> None:
    """Show what was built on which drive from which source, and how it ended; the newest first.

    The record is one file on this computer; LUCKY_KEYSTONE_LOG names another one, or 'off'.
    """
    from .. import shoplog

    if most is None and table is None and not as_json:
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
    if as_json:
        emit_json("log", {"file": str(place) if place else None, "entries": [asdict(entry) for entry in entries]})
        return
    out = console()
    if place is None:
        out.print("The shop's record is switched off (LUCKY_KEYSTONE_LOG).")
        return
    if not entries:
        out.print(f"Nothing in the shop's record{' fits that' if place.exists() else ' yet'} ({place}).")
        return
    rows = grid("When (UTC)", "What", "Ended", "Drive", "From", ">Written", ">Time", "")
    for entry in entries:
        rows.add_row(
            entry.moment.replace("T", " ").removesuffix("Z"),
            entry.command,
            entry.result,
            f"{entry.tag} {entry.model}".strip(),
            entry.label or entry.source,
            shown_size(entry.bytes_written) if entry.bytes_written else "",
            f"{entry.seconds:.0f} s" if entry.seconds else "",
            f"{entry.detail} ({entry.retries} retries)".strip() if entry.retries else entry.detail,
        )
    out.print(rows)
    out.print(f"\n{len(entries)} entries, from {place}", style="dim")
    if table is not None:
        out.print(f"Table written: {table}")
