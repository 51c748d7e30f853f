"""Command lines that a technician copies, quoted for the shell at hand."""

from __future__ import annotations

import os
import re
import shlex
import sys
from collections.abc import Sequence
from pathlib import Path

_BARE = re.compile(r"[A-Za-z0-9_.:/\\+=-]+")
"""What neither the command prompt nor PowerShell reads as anything but itself."""


def quoted(word: str, *, windows: bool = sys.platform == "win32") -> str:
    """Return a word as it is written in a command line."""
    if not windows:
        return shlex.quote(word)
    if _BARE.fullmatch(word):
        return word
    from subprocess import list2cmdline  # with what it brings, a tenth of the program's start

    text = list2cmdline([word])
    # A backslash in front of the closing mark would be read as part of it.
    return text if text.startswith('"') else '"' + text + "\\" * word.endswith("\\") + '"'


def command_line(words: Sequence[str], *, windows: bool = sys.platform == "win32") -> str:
    """Return a whole command of this program."""
    return " ".join(["lucky-keystone", *(quoted(word, windows=windows) for word in words)])


def with_sudo(arguments: Sequence[str]) -> str:
    """Return this very command with sudo, whose own PATH may lack the program; '' where it does not help."""
    if sys.platform == "win32" or os.geteuid() == 0:
        return ""
    called = Path(sys.argv[0])
    is_module = called.name == "__main__.py"
    program = [sys.executable, "-m", called.parent.name] if is_module else [str(_found(called))]
    return " ".join(["sudo", *(shlex.quote(word) for word in (*program, *arguments))])


def _found(called: Path) -> Path:
    if called.is_file():
        return called.absolute()
    from shutil import which

    return Path(which(called.name) or called)
