"""Questions in a terminal, for whoever does not give the whole command line. Without a terminal nothing is asked."""

from __future__ import annotations

import sys
from pathlib import Path

import click
from rich.console import Console

from ..common.errors import KeystoneError, UsageError
from ..common.nearest import did_you_mean
from ..common.shell import command_line
from ..common.units import exact_size
from ..doing.targets import Chosen, choose, host_of
from ..drives.drive import Drive
from ..drives.guards import held_back
from ..fetching.link import is_link, parse_link
from .drives import show_drive
from .manner import manner
from .question import ask
from .show import console, heading, paragraph
from .streams import is_terminal


def can_ask() -> bool:
    """True where somebody reads and answers: a terminal on all ends, and no JSON wanted."""
    return all(is_terminal(stream) for stream in (sys.stdin, sys.stdout, sys.stderr)) and not manner().as_json


def ask_for_drive(bay: Path | None, sector_size: int | None, needed: int | None) -> Chosen:
    """Show the drives that are free, and let one be named. Raises click.Abort when that is not wanted."""
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
            paragraph(out, f"{kept} held back; 'lucky-keystone drives' says why.", style="quiet", indent=2)
        chosen = _answer(out, bay, sector_size, drives)
        if chosen is not None:
            return chosen


def _answer(out: Console, bay: Path | None, sector_size: int | None, drives: tuple[Drive, ...]) -> Chosen | None:
    """Ask until a drive is named that may be written; None: look again."""
    while True:
        out.print()
        answer = ask("Tag of the drive to build onto, or a file name for an image (Enter: look again, q: quit)")
        if not answer:
            return None
        if answer.lower() == "q":
            raise click.Abort
        try:
            chosen = choose(answer, bay, sector_size)
            if chosen.drive is None and not chosen.exists and not Path(answer).suffix and Path(answer).name == answer:
                raise UsageError(
                    f"No drive has the tag {answer}.",
                    advice=f"{did_you_mean(answer, [drive.tag for drive in drives])}"
                    f"A new image file needs a file extension: {answer}.img",
                )
        except KeystoneError as error:
            complain(out, error)
            continue
        reasons = held_back(chosen.drive, drives) if chosen.drive is not None else ()
        if not reasons:
            return chosen
        paragraph(out, f"{chosen.name} is held back: it {'; it '.join(reasons)}.", style="bad")


def complain(out: Console, error: KeystoneError) -> None:
    """Show an error that is answered by another try."""
    paragraph(out, error.message, style="bad")
    if error.advice:
        paragraph(out, error.advice, style="quiet")


def whole_line(arguments: list[str], bay: Path | None, chosen: Chosen, edition: str = "") -> str:
    """Return the command line that would have asked nothing about the drive, nor which edition to apply."""
    shown = [parse_link(word).shown if is_link(word) else word for word in arguments]
    words = [*shown, "--onto", chosen.name if chosen.drive else str(chosen.path)]
    if edition and not any(word.partition("=")[0] == "--edition" for word in arguments):
        words += ["--edition", edition]
    has_bay = any(word.partition("=")[0] == "--bay" for word in arguments)
    if bay is not None and not has_bay and chosen.drive is not None:
        words += ["--bay", str(bay)]
    return command_line(words)


_FIRST_STEPS: tuple[tuple[str, list[str], str], ...] = (
    ("See which drives are attached", ["drives"], ""),
    ("Find installers on this computer", ["inspect", "--find"], ""),
    ("Look at an installer: what it is and what it needs", ["inspect"], "Path of the image, folder or app"),
    ("Build an installer drive", ["build"], "Path of the image, folder or app"),
    ("Check a drive", ["check"], "The drive's tag, or an image file"),
    ("Turn a drive back into ordinary storage", ["reclaim"], "The drive's tag, or an image file"),
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
