"""Questions in a terminal, for whoever does not give the whole command line. Without a terminal nothing is asked."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.errors import KeystoneError
from ..common.shell import command_line
from ..common.units import exact_size
from ..doing.targets import Chosen, choose, existing, host_of
from ..drives.drive import Drive
from ..drives.guards import held_back
from ..fetching.link import without_secrets
from .drives import show_drive
from .question import ask, can_ask
from .show import console, heading, paragraph

if TYPE_CHECKING:
    from rich.console import Console

_TO_BUILD = "Tag of the drive to build onto, or a file name for an image"
_STANDING = "The drive's tag, or an image file"
_LEAVING = "(Enter: look again, q: quit)"


def ask_for_drive(bay: Path | None, sector_size: int | None, needed: int | None) -> Chosen:
    """Show the drives that are free, and let one be named. Raises click.Abort when that is not wanted."""
    return _let_choose(bay, sector_size, needed, is_new=True)


def drive_asked_for(bay: Path | None) -> str:
    """Let a drive be named that a command is to look at or care for; show the command as it could have been typed.

    Raises click.UsageError where nobody can answer.
    """
    if not can_ask():
        raise click.UsageError("DRIVE is missing.")
    chosen = _let_choose(bay, None, None, is_new=False)
    context = click.get_current_context()
    name = chosen.name if chosen.drive else str(chosen.path)
    typed = [*without_secrets(context.obj), *([name] if name not in context.obj else [])]
    console().print(f"$ {command_line(typed)}", style="typed")
    return name


def _let_choose(bay: Path | None, sector_size: int | None, needed: int | None, *, is_new: bool) -> Chosen:
    out = console()
    while True:
        host = host_of(bay)
        drives = host.drives()
        free = [drive for drive in drives if not held_back(drive, drives)]
        heading(out, "Drives")
        for drive in free:
            show_drive(out, host, drive, drives)
            if needed is not None and drive.size < needed:
                paragraph(out, f"too small: the source needs {exact_size(needed)}", style="warn", indent=6)
        if not free:
            out.print("  No free drive is attached.")
        if held := len(drives) - len(free):
            kept = "1 more is" if held == 1 else f"{held} more are"
            paragraph(out, f"{kept} protected; 'lucky-keystone drives' says why.", style="quiet", indent=2)
        chosen = _answer(out, bay, sector_size, drives, is_new=is_new)
        if chosen is not None:
            return chosen


def _answer(
    out: Console, bay: Path | None, sector_size: int | None, drives: tuple[Drive, ...], *, is_new: bool
) -> Chosen | None:
    """Ask until a drive is named that may be used; None: look again."""
    while True:
        out.print()
        answer = ask(f"{_TO_BUILD if is_new else _STANDING} {_LEAVING}")
        if not answer:
            return None
        if answer.lower() == "q":
            raise click.Abort
        try:
            chosen = choose(answer, bay, sector_size) if is_new else existing(answer, bay, sector_size)
        except KeystoneError as error:
            complain(out, error)
            continue
        reasons = held_back(chosen.drive, drives) if is_new and chosen.drive is not None else ()
        if not reasons:
            return chosen
        paragraph(out, f"{chosen.name} is protected: it {'; it '.join(reasons)}.", style="bad")


def complain(out: Console, error: KeystoneError) -> None:
    """Show an error that is answered by another try."""
    paragraph(out, error.message, style="bad")
    if error.advice:
        paragraph(out, error.advice, style="quiet")


def whole_line(arguments: list[str], bay: Path | None, chosen: Chosen, edition: str = "") -> str:
    """Return the command line that would have asked nothing about the drive, nor which edition to apply."""
    words = [*without_secrets(arguments), "--onto", chosen.name if chosen.drive else str(chosen.path)]
    if edition and not any(word.partition("=")[0] == "--edition" for word in arguments):
        words += ["--edition", edition]
    has_bay = any(word.partition("=")[0] == "--bay" for word in arguments)
    if bay is not None and not has_bay and chosen.drive is not None:
        words += ["--bay", str(bay)]
    return command_line(words)


_IMAGE = "Path of the image, folder or app"
_FIRST_STEPS: tuple[tuple[str, list[str], str], ...] = (
    ("Build an installer drive", ["build"], _IMAGE),
    ("Look at an installer: what it is and what it needs", ["inspect"], _IMAGE),
    ("Find installers on this computer", ["inspect", "--find"], ""),
    ("See which drives are attached", ["drives"], ""),
    ("Check a drive", ["check"], ""),
    ("Repair a drive that does not start", ["mend"], ""),
    ("Test a stick: what it really holds, and how fast it is", ["gauge"], ""),
    ("Turn a drive back into ordinary storage", ["reclaim"], ""),
    ("Build a Windows that runs from the stick", ["build", "--purpose", "portable"], _IMAGE),
    ("Try everything on made-up data", ["demo"], ""),
)
"""What is offered, the command, and what has to be asked for it."""


def first_steps() -> list[str] | None:
    """Offer what a newcomer may want; return the command line that was chosen, None for none."""
    out = console()
    out.print("Lucky Keystone builds installer drives for Windows and macOS.", style="bold")
    out.print()
    for number, (what, *_) in enumerate(_FIRST_STEPS, 1):
        out.print(f"  {number}  {what}")
    out.print()
    paragraph(out, "All commands: lucky-keystone --help", style="quiet")
    while True:
        answer = ask(f"What would you like to do? (1 to {len(_FIRST_STEPS)}; Enter: leave)")
        if not answer or answer.lower() == "q":
            return None
        if answer.isdecimal() and 1 <= int(answer) <= len(_FIRST_STEPS):
            break
        out.print(f"'{answer}' is not one of the numbers.", style="bad")
    _, words, question = _FIRST_STEPS[int(answer) - 1]
    given = ask(question) if question else ""
    if question and not given:
        return None
    line = [*words, *([given] if given else [])]
    out.print(f"$ {command_line(line)}", style="typed")
    return line
