"""How things are shown: tables and lines on a terminal, one line a stage without one, JSON on demand."""

from __future__ import annotations

import json
import sys
import threading
import time
from dataclasses import dataclass
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

import msgspec
from rich.console import Console
from rich.progress import BarColumn, TaskID, TextColumn
from rich.progress import Progress as Bars
from rich.table import Table
from rich.text import Text

from ..progress import Progress
from ..units import shown_size
from .text import visible, visible_json, visible_line

if TYPE_CHECKING:
    from ..starting.outlook import Outlook

_UNFOLDED = 400  # columns without a terminal: every row stays one line
_STYLES = {"starts": "bold green", "will not start": "bold red", "not known": "bold yellow"}


class _SafeConsole(Console):
    """A console that lets no text steer the terminal; colours come from styles only."""

    def on_broken_pipe(self) -> None:
        """Leave it to the program's end: this class's own way would end it as if a check had found something."""
        raise BrokenPipeError

    def print(self, *objects: Any, **settings: Any) -> None:
        for thing in objects:
            if isinstance(thing, Text):
                thing.plain = visible(thing.plain)
        super().print(*(visible_line(thing) if isinstance(thing, str) else thing for thing in objects), **settings)


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
    print(visible_json(json.dumps(document, indent=2, ensure_ascii=False)))


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
    from ..starting.outlook import without_repeats

    rows = tuple(without_repeats(rows))
    width = max((len(row.firmware) for row in rows), default=0) + 2
    for row in rows:
        out.print(
            Text.assemble(
                "  ", (row.verdict.ljust(15), _STYLES[row.verdict]), row.firmware.ljust(width), (row.reason, "dim")
            )
        )


@dataclass
class _Line:
    """What is shown of one drive's work."""

    stage: str = ""
    started: float = 0.0
    done: int = 0
    total: int = 0
    task: TaskID | None = None
    ended: str = ""
    """The stage that came last; what is still said of it is not shown again."""


class Stages:
    """Shows progress: bars on a terminal, else one line when a stage ends. Call it with (stage, done, total) in bytes.

    Several drives have a line each: `line(name)` gives what to call for one of them.
    """

    def __init__(self, *, quiet: bool) -> None:
        self._quiet = quiet
        self._bar: Bars | None = None
        self._lines: dict[str, _Line] = {}
        self._out = console(err=True)
        self._lock = threading.Lock()

    def __enter__(self) -> Self:
        if not self._quiet and self._out.is_terminal:
            self._bar = Bars(
                TextColumn("  {task.description:<20}"),
                BarColumn(24, complete_style="green", finished_style="green"),
                TextColumn("{task.fields[status]}"),
                console=self._out,
            )
            self._bar.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if kind is None:
            for name, line in self._lines.items():
                self._end_stage(name, line)
        if self._bar is not None:
            self._bar.stop()

    def __call__(self, stage: str, done: int, total: int) -> None:
        self._tell("", stage, done, total)

    def line(self, name: str) -> Progress:
        """Return what hears of the progress of the drive `name`."""
        return lambda stage, done, total: self._tell(name, stage, done, total)

    def _tell(self, name: str, stage: str, done: int, total: int) -> None:
        if self._quiet:
            return
        with self._lock:
            line = self._lines.setdefault(name, _Line())
            if stage == line.ended:
                return
            if stage != line.stage:
                self._end_stage(name, line)
                line.stage, line.started, line.task = stage, time.monotonic(), None
            line.done, line.total = done, total
            if self._bar is not None:
                if line.task is None:
                    line.task = self._bar.add_task(visible(f"{name} {stage}".strip()), total=total, status="")
                self._bar.update(line.task, completed=done, total=total, status=_status(line))
            if done >= total:
                self._end_stage(name, line)

    def _end_stage(self, name: str, line: _Line) -> None:
        if not line.stage:
            return
        seconds = max(time.monotonic() - line.started, 1e-3)
        if self._bar is None:
            size = f" {shown_size(line.total)}" if line.total >= 1 << 20 else ""
            self._out.print("  " + f"{name} {line.stage}:".lstrip() + f"{size} in {seconds:.1f} s")
        elif line.task is not None and line.total >= 1 << 20:
            status = f"{shown_size(line.total)} in {seconds:.1f} s, {shown_size(int(line.total / seconds))}/s"
            self._bar.update(line.task, completed=line.total, status=status)
        line.stage, line.ended = "", line.stage


def _status(line: _Line) -> str:
    if line.total < 1 << 20:
        return ""
    seconds = max(time.monotonic() - line.started, 1e-3)
    rate = line.done / seconds
    text = f"{shown_size(line.done)} of {shown_size(line.total)}, {shown_size(int(rate))}/s"
    if line.done < line.total and rate and seconds > 1:
        left = (line.total - line.done) / rate
        text += f", {int(left // 60)} min {int(left % 60):02} s left" if left >= 60 else f", {int(left) + 1} s left"
    return text
