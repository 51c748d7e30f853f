"""`demo`: the whole job on made-up data."""

from __future__ import annotations

import shlex
from pathlib import Path

import click

from ..demo.bay import make_bay
from ..demo.disc import write_disc
from ..demo.tidewell import LABEL, MOMENT, installer
from ..drives.bay import list_bay
from ..errors import DriveError, ProtectError, naming
from .show import Stages, console

_DISC = "tidewell-11.iso"


@click.command(
    epilog="""\b
Examples:
  lucky-keystone demo
  lucky-keystone demo /tmp/tidewell"""
)
@click.argument("folder", type=click.Path(path_type=Path), default=Path("tidewell-demo"))
@click.pass_context
def command(context: click.Context, folder: Path) -> int:
    """Make the Tidewell Ferry Company's installer disc and drives in FOLDER, and do the whole job with them.

    The disc holds an install image larger than 4 GiB and the larger drives are of their full size, but all of it is
    sparse and takes little room on this computer.
    """
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise ProtectError(f"{folder} is there already and not empty.", advice="Name a new folder: lucky-keystone demo OTHER")
    out = console()
    out.print("The Tidewell Ferry Company's workshop sets up its machines. Everything here is made up.\n")
    with naming(str(folder), DriveError, advice="Choose a folder that can be written to."):
        make_bay(folder / "bay")
    disc, bay = folder / _DISC, folder / "bay"
    with Stages(quiet=False) as stages:
        write_disc(disc, installer(), LABEL, MOMENT, stages)
    stick = next(drive for drive in list_bay(bay) if drive.path.name == "stick-large.img")
    steps = [
        ("Which drives are there?", ["drives", "--bay", str(bay)]),
        ("What is on the disc?", ["inspect", str(disc)]),
        (
            "How would the large stick be built?",
            [
                "plan",
                str(disc),
                "--for",
                stick.tag,
                "--bay",
                str(bay),
                "--save",
                str(folder / "counter.toml"),
                "--figure",
                str(folder / "counter.png"),
            ],
        ),
        ("Build it.", ["build", str(folder / "counter.toml"), "--onto", stick.tag, "--bay", str(bay), "--yes"]),
        ("Check it, as one would weeks later.", ["check", stick.tag, "--bay", str(bay)]),
    ]
    for title, arguments in steps:
        out.print()
        out.print(title, style="bold")
        out.print(f"$ lucky-keystone {shlex.join(arguments)}\n", style="bold magenta")
        code = _run(context, arguments)
        if code:
            out.print(f"\nThe demo ends here: exit code {code}.", style="bold red")
            return code
    _closing(folder, bay, disc, stick.tag)
    return 0


def _run(context: click.Context, arguments: list[str]) -> int:
    """Run a command of this program as if it had been typed."""
    group = context.find_root().command
    result = group.main(args=arguments, prog_name="lucky-keystone", standalone_mode=False)
    return result if isinstance(result, int) else 0


def _closing(folder: Path, bay: Path, disc: Path, tag: str) -> None:
    out = console()
    out.print(f"\nEverything lies in {folder}:", style="bold")
    for path, what in (
        (disc, "the installer disc"),
        (bay, "the drives; the large stick is built now"),
        (folder / "counter.toml", "the plan: edit it and build again"),
        (folder / "counter.png", "the drive, drawn to scale"),
    ):
        out.print(f"  {path}: {what}")
    out.print("\nTry next:", style="bold")
    archive = next(drive.tag for drive in list_bay(bay) if drive.path.name == "disk-archive.img")
    for line in (
        f"lucky-keystone build {shlex.quote(str(disc))} --onto {archive} --bay {shlex.quote(str(bay))}    # held back, and why",
        f"lucky-keystone build {shlex.quote(str(disc))} --onto {shlex.quote(str(folder / 'crew.img'))} --label CREW",
        f"lucky-keystone plan {shlex.quote(str(disc))} --file-system ntfs    # what is not built yet",
        f"lucky-keystone check {tag} --bay {shlex.quote(str(bay))} --json",
    ):
        out.print(f"  {line}")
