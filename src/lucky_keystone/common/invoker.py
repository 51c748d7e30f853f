"""Who started the program when sudo is in between, so that nothing root-owned is left in that user's folders."""

from __future__ import annotations

import os
import sys
from pathlib import Path


def elevated_for() -> tuple[int, int] | None:
    """Return (user, group) of the one who called sudo (sudo(8), "ENVIRONMENT"); None when nobody did."""
    if sys.platform == "win32" or os.geteuid() != 0:
        return None
    try:
        return int(os.environ["SUDO_UID"]), int(os.environ["SUDO_GID"])
    except (KeyError, ValueError):
        return None


def as_administrator() -> str:
    """Return in words how a command is run with the rights that opening a drive needs: it is run '…'."""
    return "in a terminal opened with 'Run as administrator'" if sys.platform == "win32" else "with sudo in front of it"


def show_no_boxes() -> None:
    """Have Windows answer for a drive without a disc or a card instead of asking for one in a window."""
    if sys.platform == "win32":
        from ..winapi.files import KERNEL

        fail_critical_errors, no_open_file_error_box = 0x0001, 0x8000  # SetErrorMode
        KERNEL.SetErrorMode(fail_critical_errors | no_open_file_error_box)


def give_to_user(path: Path) -> None:
    """Let a file or folder that was just made belong to the one who called sudo. Does nothing without sudo."""
    owner = elevated_for()
    if owner is not None and sys.platform != "win32":
        os.chown(path, *owner, follow_symlinks=False)


def make_folder(folder: Path) -> None:
    """Make a folder and those above it that are missing, each belonging to the user."""
    missing = [place for place in (folder, *folder.parents) if not place.exists()]
    for place in reversed(missing):
        place.mkdir(exist_ok=True)
        give_to_user(place)


def write_text(path: Path, text: str) -> None:
    """Write a text file that belongs to the user when it is new."""
    new = not path.exists()
    path.write_text(text, "utf-8")
    if new:
        give_to_user(path)


def home() -> Path:
    """Return the home folder of the one who called sudo, else one's own."""
    owner = elevated_for()
    if owner is None or sys.platform == "win32":
        return Path.home()
    import pwd

    try:
        return Path(pwd.getpwuid(owner[0]).pw_dir)
    except KeyError:
        return Path.home()
