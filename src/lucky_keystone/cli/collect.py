"""`collect`: what a volunteer with a real computer sends, in one file."""

from __future__ import annotations

import platform
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .. import __version__
from ..common.outputs import OutputKind, refuse_output, write_output
from ..common.shell import command_line
from ..doing.targets import existing
from .captured import run_captured
from .completion import complete_drive
from .confirming import confirm
from .headings import Command
from .manner import manner
from .options import (
    bay_option,
    guard_options,
    output_options,
    overwrite_option,
    replacing_of,
)
from .show import console, emit_json, heading, paragraph

if TYPE_CHECKING:
    from ..drives.guards import Guard
    from .documents import CommandRun

_SHOWN = 2
"""Letters of a serial number that stay."""


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone collect --to bench-4.json
  lucky-keystone collect --to bench-4.json --onto G7KM""",
)
@click.option(
    "--to",
    "file",
    required=True,
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="Write it here.",
)
@click.option(
    "--onto",
    "drive",
    metavar="DRIVE",
    shell_complete=complete_drive,
    help="A stick that may be lost: a made-up installer is built onto it and checked, then it is reclaimed.",
)
@overwrite_option
@guard_options
@bay_option
@output_options
def command(
    file: Path, drive: str | None, overwrite: bool, yes: bool, lifted: frozenset[Guard], bay: Path | None
) -> int:
    """Collect what is worth sending of a real computer: versions, its facts, its drives, and a trial on a stick.

    Serial numbers are shortened. Nothing is sent by this program: look at the file, and send it yourself.
    """
    from .documents import CollectDocument

    replacing = replacing_of(overwrite)
    refuse_output(file, OutputKind.COLLECTION, replacing)
    steps: list[list[str]] = [["machine"], ["drives", *(["--bay", str(bay)] if bay else [])]]
    with tempfile.TemporaryDirectory(prefix="lucky-keystone-") as scratch:
        if drive is not None:
            chosen = existing(drive, bay)
            confirm(chosen, yes=yes, needed=_NEEDED, lifted=lifted, will="erased, and made ordinary storage at the end")
            # By its tag: a letter may be another one after each step.
            name = chosen.drive.tag if chosen.drive else str(chosen.path)
            steps += _trial(name, _made_up_disc(Path(scratch)), bay, sorted(guard.override for guard in lifted))
        runs = [_run(step) for step in steps]
    document = CollectDocument(
        program=__version__,
        python=sys.version.split()[0],
        system=platform.platform(),
        processor=platform.machine(),
        runs=runs,
    )
    from .events import as_json

    write_output(file, as_json(document, indent=2).encode() + b"\n", OutputKind.COLLECTION, replacing)
    if manner().as_json:
        emit_json(document)
    else:
        _show(runs, file)
    return 1 if any(run.exit_code for run in runs) else 0


_NEEDED = 64 << 20


def _made_up_disc(folder: Path) -> Path:
    from ..common.progress import silent
    from ..demo.disc import write_disc
    from ..demo.tidewell import LABEL, MOMENT, installer

    path = folder / "tidewell.iso"
    write_disc(
        path, installer(loader_size=300 << 10, hollow_size=1 << 20, hollow_count=20, files=12), LABEL, MOMENT, silent
    )
    return path


def _trial(drive: str, disc: Path, bay: Path | None, lifting: Sequence[str]) -> list[list[str]]:
    """Return what is done with a stick, one command after the other."""
    place = ["--bay", str(bay)] if bay else []
    return [
        ["gauge", drive, *place],
        ["build", str(disc), "--onto", drive, "--yes", *lifting, *place],
        ["check", drive, *place],
        ["build", str(disc), "--onto", drive, "--file-system", "ntfs", "--yes", *lifting, *place],
        ["check", drive, *place],
        ["mend", drive, "--dry-run", *place],
        ["reclaim", drive, "--yes", "--eject", *lifting, *place],
    ]


def _run(words: list[str]) -> CommandRun:
    from .documents import CommandRun

    code, document = run_captured(words)
    return CommandRun(command_line=command_line(words), exit_code=code, document=_without_serials(document))


def _without_serials(found: Any) -> Any:
    """Return a document with all serial numbers shortened."""
    if isinstance(found, dict):
        return {
            key: f"{value[:_SHOWN]}…"
            if key == "serial" and isinstance(value, str) and value
            else _without_serials(value)
            for key, value in found.items()
        }
    return [_without_serials(each) for each in found] if isinstance(found, list) else found


def _show(runs: Sequence[CommandRun], file: Path) -> None:
    out = console()
    heading(out, "Collected")
    for run in runs:
        ended = "done" if run.exit_code == 0 else f"ended with {run.exit_code}"
        error = (run.document.get("error") or {}).get("message", "") if isinstance(run.document, dict) else ""
        paragraph(
            out, f"{ended}: {run.command_line}", style="good" if run.exit_code == 0 else "warn", indent=2, hanging=4
        )
        if error:
            paragraph(out, error, indent=4)
    out.print()
    paragraph(out, f"Written to {file}. Serial numbers are shortened; look through it, and send it with what you saw.")
