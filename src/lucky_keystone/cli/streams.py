"""The program's three streams: what they are, what they are written in, and what it means when they fail."""

from __future__ import annotations

import errno
import io
import os
import sys
from contextlib import suppress
from pathlib import Path
from typing import IO

_OUTPUT_ERRORS = (errno.ENOSPC, errno.EIO, errno.EBADF, errno.EFBIG)


def is_terminal(stream: IO[str]) -> bool:
    """True where somebody reads or answers. On Windows null input is a character device too, and no console."""
    if not stream.isatty():
        return False
    if sys.platform == "win32":
        from ..winapi.files import is_console

        try:
            return is_console(stream.fileno())
        except (OSError, ValueError):
            return False
    return True


def is_closed_pipe(error: OSError) -> bool:
    """Tell whether nobody reads the output any more; Windows' C runtime calls that an invalid argument."""
    if isinstance(error, BrokenPipeError):
        return True
    is_nameless = error.filename is None and getattr(error, "winerror", None) is None
    return sys.platform == "win32" and error.errno == errno.EINVAL and is_nameless


def is_of_output(error: OSError) -> bool:
    """Tell an error of the output from one of the work: files and drives raise errors of our own, or have a name."""
    return is_closed_pipe(error) or (error.filename is None and error.errno in _OUTPUT_ERRORS)


def prepare_streams() -> None:
    """Open what was closed, so that no drive gets its number; and let no character a terminal lacks end the work.

    On Windows files and pipes get UTF-8, and lines as they are, whatever the code page: what reads them wants JSON.
    """
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)  # takes the lowest number that is free
    nowhere = Path(os.devnull)
    sys.stdin = sys.stdin or nowhere.open(encoding="utf-8")
    sys.stdout = sys.stdout or nowhere.open("w", encoding="utf-8")
    sys.stderr = sys.stderr or nowhere.open("w", encoding="utf-8")
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            if _wants_utf8(stream):
                stream.reconfigure(encoding="utf-8", errors="backslashreplace", newline="\n")
            else:
                stream.reconfigure(errors="backslashreplace")
    if isinstance(sys.stdin, io.TextIOWrapper) and _wants_utf8(sys.stdin):
        sys.stdin.reconfigure(encoding="utf-8-sig", errors="surrogateescape")


def _wants_utf8(stream: IO[str]) -> bool:
    return sys.platform == "win32" and not is_terminal(stream)


def forget_output() -> None:
    """Let what is still waiting to be written go nowhere: it must not fail once more when the program ends."""
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
