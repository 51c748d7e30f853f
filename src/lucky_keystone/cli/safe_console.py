"""The terminal as it is drawn on: its colours, and a console that no text steers."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.text import Text
from rich.theme import Theme

from .text import visible, visible_line

# No colour has a contrast of 4.5 to both a dark and a light terminal: verdicts bring a background, and all other
# words are in the terminal's own colour.
THEME = Theme(
    {
        "good": "bold color(231) on color(22)",
        "bad": "bold color(231) on color(88)",
        "warn": "bold color(231) on color(94)",
        "bar": "color(28)",
        "name": "bold",
        "quiet": "none",
        "typed": "bold",
        "lesson": "bold",
    }
)


class SafeConsole(Console):
    """A console that lets no text steer the terminal; colours come from styles only."""

    def on_broken_pipe(self) -> None:
        """Leave it to the program's end: this class's own way would end it as if a check had found something."""
        raise BrokenPipeError

    def print(self, *objects: Any, **settings: Any) -> None:
        for thing in objects:
            if isinstance(thing, Text):
                thing.plain = visible(thing.plain)
        super().print(*(visible_line(thing) if isinstance(thing, str) else thing for thing in objects), **settings)
