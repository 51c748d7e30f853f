"""`demo`: the whole job on made-up data."""

from __future__ import annotations

import contextlib
import io
import json
import shlex
from pathlib import Path
from typing import Any

import click

from ..drives.bay import Bay
from ..errors import DriveError, ProtectError, naming
from .options import json_option
from .show import Stages, console, emit_json

_DISC = "tidewell-11.iso"


@click.command(
    epilog="""\b
Examples:
  lucky-keystone demo
  lucky-keystone demo /tmp/tidewell"""
)
@click.argument("folder", type=click.Path(path_type=Path), default=Path("tidewell-demo"))
@json_option
@click.pass_context
def command(context: click.Context, folder: Path, as_json: bool) -> int:
    """Make the Tidewell Ferry Company's installer disc and drives in FOLDER, and do the whole job with them.

    The disc holds an install image larger than 4 GiB and the larger drives are of their full size, but all of it is
    sparse and takes little room on this computer.
    """
    from ..demo.bay import make_bay
    from ..demo.disc import write_disc
    from ..demo.tidewell import LABEL, MOMENT, installer

    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise ProtectError(f"{folder} is there already and not empty.", advice="Name a new folder: lucky-keystone demo OTHER")
    out = console()
    if not as_json:
        out.print("The Tidewell Ferry Company's workshop sets up its machines. Everything here is made up.\n")
    with naming(str(folder), DriveError, advice="Choose a folder that can be written to."):
        make_bay(folder / "bay")
    with Stages(quiet=as_json) as stages:
        write_disc(folder / _DISC, installer(), LABEL, MOMENT, stages)
    stick = next(drive for drive in Bay(folder / "bay").drives() if drive.path.name == "stick-large.img")
    done: list[dict[str, Any]] = []
    code = 0
    for title, arguments in _steps(folder, stick.tag):
        if as_json:
            code, document = _run_for_json(context, arguments)
            done.append({"command_line": f"lucky-keystone {shlex.join(arguments)}", "exit_code": code, "document": document})
        else:
            out.print()
            out.print(title, style="bold")
            out.print(f"$ lucky-keystone {shlex.join(arguments)}\n", style="bold magenta")
            code = _run(context, arguments)
        if code:
            break
    if as_json:
        emit_json("demo", {"folder": str(folder), "steps": done})
    elif code:
        out.print(f"\nThe demo ends here: exit code {code}.", style="bold red")
    else:
        _closing(folder, stick.tag)
    return code


def _steps(folder: Path, tag: str) -> list[tuple[str, list[str]]]:
    """The job's commands with what each is for."""
    bay, disc = ["--bay", str(folder / "bay")], str(folder / _DISC)
    saved = ["--save", str(folder / "counter.toml"), "--figure", str(folder / "counter.png")]
    return [
        ("Which drives are there?", ["drives", *bay]),
        ("What is on the disc?", ["inspect", disc]),
        ("How would the large stick be built?", ["plan", disc, "--for", tag, *bay, *saved]),
        ("Build it.", ["build", str(folder / "counter.toml"), "--onto", tag, *bay, "--yes"]),
        ("Check it, as one would weeks later.", ["check", tag, *bay]),
    ]


def _run(context: click.Context, arguments: list[str]) -> int:
    """Run a command of this program as if it had been typed."""
    group = context.find_root().command
    result = group.main(args=arguments, prog_name="lucky-keystone", standalone_mode=False)
    return result if isinstance(result, int) else 0


def _run_for_json(context: click.Context, arguments: list[str]) -> tuple[int, Any]:
    """Run a command with --json; return its exit code and document."""
    text = io.StringIO()
    with contextlib.redirect_stdout(text):
        code = _run(context, [*arguments, "--json"])
    return code, json.loads(text.getvalue())


def _closing(folder: Path, tag: str) -> None:
    out = console()
    bay, disc = folder / "bay", folder / _DISC
    out.print(f"\nEverything lies in {folder}:", style="bold")
    for path, what in (
        (disc, "the installer disc"),
        (bay, "the drives; the large stick is built now"),
        (folder / "counter.toml", "the plan: edit it and build again"),
        (folder / "counter.png", "the drive, drawn to scale"),
    ):
        out.print(f"  {path}: {what}")
    out.print("\nTry next:", style="bold")
    archive = next(drive.tag for drive in Bay(bay).drives() if drive.path.name == "disk-archive.img")
    for line in (
        f"lucky-keystone build {shlex.quote(str(disc))} --onto {archive} --bay {shlex.quote(str(bay))}    # held back, and why",
        f"lucky-keystone build {shlex.quote(str(disc))} --onto {shlex.quote(str(folder / 'crew.img'))} --label CREW",
        f"lucky-keystone plan {shlex.quote(str(disc))} --file-system ntfs    # what is not built yet",
        f"lucky-keystone check {tag} --bay {shlex.quote(str(bay))} --json",
    ):
        out.print(f"  {line}")
