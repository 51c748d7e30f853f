"""How things are shown: tables and lines on a terminal, one line a stage without one, JSON on demand."""

from __future__ import annotations

import json
import sys
import time
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

import msgspec
from rich.console import Console
from rich.progress import BarColumn, Progress, TaskID, TextColumn
from rich.table import Table
from rich.text import Text

from ..units import shown_size
from .text import visible

if TYPE_CHECKING:
    from ..planning.plan import Outlook

_UNFOLDED = 400  # columns without a terminal: every row stays one line
_STYLES = {"starts": "bold green", "will not start": "bold red", "not known": "bold yellow"}


class _SafeConsole(Console):
    """A console that lets no text steer the terminal; colours come from styles only."""

    def print(self, *objects: Any, **settings: Any) -> None:
        for thing in objects:
            if isinstance(thing, Text):
                thing.plain = visible(thing.plain)
        super().print(*(visible(thing) if isinstance(thing, str) else thing for thing in objects), **settings)


class _SafeTable(Table):
    def add_row(self, *cells: Any, **settings: Any) -> None:
        super().add_row(*(visible(cell) if isinstance(cell, str) else cell for cell in cells), **settings)


def console(*, err: bool = False) -> Console:
    """A console for text: colours and folding only on a terminal, markup never read from outside texts."""
    stream = sys.stderr if err else sys.stdout
    return _SafeConsole(stderr=err, markup=False, highlight=False, width=None if stream.isatty() else _UNFOLDED)


def emit_json(command: str, body: dict[str, Any]) -> None:
    """Print one JSON document: schema version, command, body."""
    document = {"schema": 1, "command": command, **msgspec.to_builtins(body, str_keys=True)}
    print(json.dumps(document, indent=2, ensure_ascii=False))


def heading(out: Console, text: str) -> None:
    """Print a section's heading."""
    out.print()
    out.print(Text(text, style="bold underline"))


def facts(out: Console, rows: list[tuple[str, str]]) -> None:
    """Print names and values in two columns."""
    width = max(len(name) for name, _ in rows)
    for name, value in rows:
        out.print(Text.assemble("  ", (name.ljust(width), "cyan"), "  ", value))


def grid(*columns: str) -> Table:
    """Return an empty table in the house's plain form."""
    table = _SafeTable(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="cyan")
    for column in columns:
        right = column.startswith(">")
        table.add_column(column.lstrip(">"), justify="right" if right else "left", overflow="fold")
    return table


def starts(out: Console, rows: tuple[Outlook, ...]) -> None:
    """Print the forecast or what a drive starts on."""
    for row in rows:
        out.print(Text.assemble("  ", (row.verdict.ljust(15), _STYLES[row.verdict]), row.firmware.ljust(13), (row.reason, "dim")))


class Stages:
    """Shows progress: a bar on a terminal, else one line when a stage ends. Call it with (stage, done, total) in bytes."""

    def __init__(self, *, quiet: bool) -> None:
        self._quiet = quiet
        self._bar: Progress | None = None
        self._task: TaskID | None = None
        self._stage = ""
        self._started = 0.0
        self._last: tuple[int, int] = (0, 0)
        self._out = console(err=True)

    def __enter__(self) -> Self:
        if not self._quiet and self._out.is_terminal:
            self._bar = Progress(
                TextColumn("  {task.description:<20}"),
                BarColumn(24, complete_style="green", finished_style="green"),
                TextColumn("{task.fields[told]}"),
                console=self._out,
            )
            self._bar.start()
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        if kind is None:
            self._end_stage()
        if self._bar is not None:
            self._bar.stop()

    def __call__(self, stage: str, done: int, total: int) -> None:
        if self._quiet:
            return
        if stage != self._stage:
            self._end_stage()
            self._stage, self._started, self._task = stage, time.monotonic(), None
        self._last = (done, total)
        if self._bar is not None:
            if self._task is None:
                self._task = self._bar.add_task(stage, total=total, told="")
            self._bar.update(self._task, completed=done, total=total, told=self._told(done, total))

    def _told(self, done: int, total: int) -> str:
        if total < 1 << 20:
            return ""
        seconds = max(time.monotonic() - self._started, 1e-3)
        rate = done / seconds
        text = f"{shown_size(done)} of {shown_size(total)}, {shown_size(int(rate))}/s"
        if done < total and rate and seconds > 1:
            left = (total - done) / rate
            text += f", {int(left // 60)} min {int(left % 60):02} s left" if left >= 60 else f", {int(left) + 1} s left"
        return text

    def _end_stage(self) -> None:
        if not self._stage:
            return
        _, total = self._last
        if self._bar is None:
            seconds = time.monotonic() - self._started
            size = f" {shown_size(total)}" if total >= 1 << 20 else ""
            self._out.print(f"  {self._stage}:{size} in {seconds:.1f} s")
        elif self._task is not None and total >= 1 << 20:
            seconds = max(time.monotonic() - self._started, 1e-3)
            self._bar.update(
                self._task, completed=total, told=f"{shown_size(total)} in {seconds:.1f} s, {shown_size(int(total / seconds))}/s"
            )
        self._stage = ""
