"""How the program speaks in one run: set by a command's options, read wherever something is shown."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, Literal, NamedTuple, TextIO

from .streams import is_terminal

ProgressMode = Literal["bar", "lines", "json", "none"]
PROGRESS_MODES: tuple[ProgressMode, ...] = ("bar", "lines", "json", "none")


class Manner(NamedTuple):
    """What the options --json, -q, -v, --plain and --progress ask for."""

    quiet: bool = False
    """Results and errors only."""
    verbose: bool = False
    as_json: bool = False
    """One JSON document in place of text."""
    plain: bool = False
    """One fact a line, for screen readers: no columns, no bars."""
    progress: ProgressMode | None = None
    """None: as the terminal allows."""


_now = Manner()


def manner() -> Manner:
    """Return how this run speaks."""
    return _now


def change(**fields: Any) -> None:
    """Let the rest of this run speak in another way."""
    global _now  # noqa: PLW0603 - one program, one terminal
    _now = _now._replace(**fields)


@contextmanager
def restored() -> Iterator[None]:
    """Keep what a command changes from the next one in the same process."""
    global _now  # noqa: PLW0603
    before = _now
    try:
        yield
    finally:
        _now = before


def is_dumb() -> bool:
    """True for terminals that can neither colour nor redraw."""
    return os.environ.get("TERM", "").lower() in ("dumb", "unknown")


def colour_system() -> Literal["auto", "256"]:
    """Return what the terminal can: those that call themselves xterm or alike all have 256 colours."""
    return "256" if os.environ.get("TERM", "").startswith(("xterm", "screen", "tmux", "rxvt")) else "auto"


def has_colour(stream: TextIO) -> bool:
    """Decide on colour: NO_COLOR, CLICOLOR_FORCE and CLICOLOR (in this order), else what the stream is."""
    if os.environ.get("NO_COLOR"):
        return False
    if os.environ.get("CLICOLOR_FORCE", "0") not in ("", "0"):
        return True
    return is_terminal(stream) and not is_dumb() and os.environ.get("CLICOLOR", "1") != "0"


def progress_mode() -> ProgressMode:
    """Decide how progress is shown on standard error; with JSON or quiet not at all, unless it was asked for."""
    if _now.progress is not None:
        return _now.progress
    if _now.as_json or _now.quiet:
        return "none"
    return "bar" if is_terminal(sys.stderr) and not is_dumb() and not _now.plain else "lines"
