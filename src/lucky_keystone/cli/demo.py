"""`demo`: the whole job on made-up data, or everything that can go wrong with it."""

from __future__ import annotations

import os
import shutil
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..common.errors import DriveError, ProtectError, naming
from ..common.places import IMAGES, RECORD
from ..common.shell import command_line
from ..common.units import shown_size
from ..demo.parts import PARTS
from ..drives.image_file import holds_holes
from .captured import run_captured
from .headings import Command
from .manner import manner
from .options import Word, output_options
from .show import console, emit_json
from .stages import Stages

if TYPE_CHECKING:
    from ..demo.steps import Step
    from .documents import CommandRun

_ROOM = 400 << 20
"""Bytes of disk that everything takes, with some to spare."""
_APPARENT = 1_300_000_000_000
"""Bytes of all drives, were their zeros stored."""


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone demo
  lucky-keystone demo /tmp/tidewell
  lucky-keystone demo --only printer /tmp/printer
  lucky-keystone demo --mishaps /tmp/training""",
)
@click.argument("folder", type=click.Path(path_type=Path), default=Path("tidewell-demo"))
@click.option(
    "--mishaps", is_flag=True, help="For training: fake, failing, slow and vanishing drives, and what to do about each."
)
@click.option("--only", type=Word(PARTS), help="Run only this part of the job.")
@output_options
def command(folder: Path, mishaps: bool, only: str | None) -> int:
    """Make the Tidewell Ferry Company's installer disc and drives in FOLDER, and do the whole job with them.

    The disc holds an install image larger than 4 GiB and the larger drives are of their full size, but all of it is
    sparse and takes little room on this computer.
    """
    if mishaps and only:
        raise click.UsageError("--only names a part of the job, and --mishaps shows something else.")
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise ProtectError(
            f"{folder} is there already and not empty.", advice="Name a new folder: lucky-keystone demo OTHER"
        )
    _refuse_no_room(folder)
    if not manner().as_json:
        console().print("The Tidewell Ferry Company's workshop sets up its machines. Everything here is made up.\n")
    with ExitStack() as stack:
        steps = _make(folder, only, stack, mishaps=mishaps)
        done, code = _run_all(steps, folder)
    if manner().as_json:
        from .documents import DemoDocument

        emit_json(DemoDocument(folder=str(folder), steps=done))
    elif code:
        console().print(f"\nThe demo ends here: exit code {code}.", style="bad")
    elif mishaps:
        again = f"The drives are in {folder / 'bay'}: give them other faults in bay.toml and try again."
        console().print(f"\n{again}", style="bold")
    else:
        _conclude(folder)
    return code


def _make(folder: Path, only: str | None, stack: ExitStack, *, mishaps: bool) -> list[Step]:
    with naming(str(folder), DriveError, advice="Choose a folder that can be written to."), Stages() as stages:
        if mishaps:
            from ..demo.training import make_training

            return make_training(folder, stages)
        from ..demo.job import make_job

        return make_job(folder, stages, only, stack)


def _run_all(steps: Sequence[Step], folder: Path) -> tuple[list[CommandRun], int]:
    """Run one command after the other, until one ends otherwise than it is meant to; return its exit code, or 0."""
    from .documents import CommandRun

    done: list[CommandRun] = []
    for step in steps:
        if step.before:
            step.before()
        code, document = _run(step, folder)
        done.append(CommandRun(command_line=command_line(step.arguments), exit_code=code, document=document))
        if code != step.code:
            return done, code
    return done, 0


def _refuse_no_room(folder: Path) -> None:
    """Raise DriveError where the demo's files would not fit, before the first of them is made."""
    above = next(place for place in (folder, *folder.absolute().parents) if place.is_dir())
    free = shutil.disk_usage(above).free
    if not holds_holes(above):
        raise DriveError(
            f"The file system of {above} stores zeros as well: the demo would take {shown_size(_APPARENT)} there.",
            advice="Choose a folder on another disk: lucky-keystone demo OTHER",
        )
    if free < _ROOM:
        raise DriveError(
            f"The demo takes {shown_size(_ROOM)}, and {shown_size(free)} are free in {above}.",
            advice="Make room there, or choose a folder on another disk: lucky-keystone demo OTHER",
        )


def _run(step: Step, folder: Path) -> tuple[int, Any]:
    """Run a command of this program as if it had been typed, with a record and a store of the demo's own."""
    from .main import main

    own = {RECORD: str(folder / "log.sqlite"), IMAGES: str(folder / "store")}
    before = {name: os.environ.get(name) for name in own}
    os.environ.update(own)
    try:
        if manner().as_json:
            return run_captured(step.arguments)
        out = console()
        out.print()
        out.print(step.title, style="bold")
        out.print(f"$ {command_line(step.arguments)}\n", style="typed")
        code = main(step.arguments)
        if step.lesson:
            out.print(f"\n  -> {step.lesson}", style="lesson")
        return code, None
    finally:
        for name, value in before.items():
            if value is None:
                del os.environ[name]
            else:
                os.environ[name] = value


def _conclude(folder: Path) -> None:
    from ..demo.job import LEFT, try_next

    out = console()
    out.print(f"\nEverything is in {folder}:", style="bold")
    for name, what in LEFT:
        if (folder / name).exists():
            out.print(f"  {folder / name}: {what}")
    out.print("\nTry next:", style="bold")
    for line in try_next(folder):
        out.print(f"  {line}")
