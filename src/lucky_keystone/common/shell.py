"""Command lines that a technician copies, quoted for the shell at hand."""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
from collections.abc import Sequence

_BARE = re.compile(r"[A-Za-z0-9_.:/\\+=-]+")
"""What neither the command prompt nor PowerShell reads as anything but itself."""


def quoted(word: str, *, windows: bool = sys.platform == "win32") -> str:
    """Return a word as it is written in a command line."""
    if not windows:
        return shlex.quote(word)
    if _BARE.fullmatch(word):
        return word
    text = subprocess.list2cmdline([word])
    # A backslash in front of the closing mark would be read as part of it.
    return text if text.startswith('"') else '"' + text + "\\" * word.endswith("\\") + '"'


def command_line(words: Sequence[str], *, windows: bool = sys.platform == "win32") -> str:
    """Return a whole command of this program."""
    return " ".join(["lucky-keystone", *(quoted(word, windows=windows) for word in words)])
