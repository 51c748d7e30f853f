"""Progress on standard error: bars on a terminal, a line each ten percent without one, JSON lines on demand."""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable
from functools import cached_property
from types import TracebackType
from typing import TYPE_CHECKING, Self

from msgspec import Struct, field

from ..common.progress import Progress
from .events import ProgressEvent, as_json
from .manner import progress_mode
from .pace import Pace
from .show import console, paragraph
from .text import visible

if TYPE_CHECKING:
    from rich.console import Console
    from rich.progress import Progress as Bars
    from rich.progress import TaskID

_WORTH_LINES = 16 << 20
"""Bytes of a stage from which on each ten percent get a line."""
_WORTH_A_LINE = 1.0
"""Seconds from which on a stage without bytes gets one."""
_BETWEEN_EVENTS = 0.25
"""Seconds between two JSON lines of a stage."""
_shown: list[Stages] = []
"""What shows progress at the moment, the last one in front."""


def tell(text: str) -> None:
    """Tell something that happened on the way, beside whatever progress is shown."""
    if _shown:
        _shown[-1].note(text)


class _Line(Struct):
    """What is shown of one drive's work."""

    stage: str = ""
    pace: Pace = field(default_factory=Pace)
    done: int = 0
    total: int = 0
    task: TaskID | None = None
    tenths: int = 0
    """How many tenths were said."""
    said: float = 0.0
    """Second of the stage at which it was last spoken of."""
    ended: str = ""
    """The stage that came last; what is still reported of it is not shown again."""
    retries: Callable[[], int] = int


class Stages:
    """Shows progress; call it with (stage, done, total) in bytes.

    Several drives have a line each: `line(name)` gives what to call for one of them.
    """

    def __init__(self) -> None:
        self._mode = progress_mode()
        self._bar: Bars | None = None
        self._lines: dict[str, _Line] = {}
        self._lock = threading.Lock()

    @cached_property
    def _out(self) -> Console:
        return console(err=True)

    def __enter__(self) -> Self:
        if self._mode == "bar":
            from rich.progress import BarColumn, TextColumn
            from rich.progress import Progress as Bars

            self._bar = Bars(
                TextColumn("  {task.description:<20}"),
                BarColumn(24, complete_style="bar", finished_style="bar"),
                TextColumn("{task.fields[status]}"),
                console=self._out,
            )
        _shown.append(self)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        _shown.remove(self)
        if kind is None:
            for name, line in self._lines.items():
                self._end_stage(name, line)
        if self._bar is not None:
            self._bar.stop()

    def __call__(self, stage: str, done: int, total: int) -> None:
        self._hear("", stage, done, total)

    def line(self, name: str) -> Progress:
        """Return what to call with the progress of the drive `name`."""
        return lambda stage, done, total: self._hear(name, stage, done, total)

    def note(self, text: str) -> None:
        """Tell something that happened on the way."""
        if self._mode in ("bar", "lines"):
            with self._lock:
                paragraph(self._out, text, style="warn", indent=2, hanging=4)

    def count_retries(self, name: str, count: Callable[[], int]) -> None:
        """Ask `count` how often something had to be tried again, whenever the work of `name` is shown."""
        self._lines.setdefault(name, _Line()).retries = count

    def _hear(self, name: str, stage: str, done: int, total: int) -> None:
        if self._mode == "none":
            return
        with self._lock:
            line = self._lines.setdefault(name, _Line())
            if stage == line.ended:
                return
            if stage != line.stage:
                self._end_stage(name, line)
                line.stage, line.pace, line.task, line.tenths, line.said = stage, Pace(), None, 0, 0.0
            line.done, line.total = done, total
            line.pace.mark(done)
            if done >= total:
                self._end_stage(name, line)
            else:
                self._show(name, line)

    def _show(self, name: str, line: _Line) -> None:
        if self._mode == "bar":
            self._update_bar(name, line, line.pace.status(line.total, line.retries()) if _counts(line) else "")
        elif self._mode == "json":
            if not line.said or line.pace.seconds - line.said >= _BETWEEN_EVENTS:
                self._emit(name, line)
        elif line.total >= _WORTH_LINES and (tenths := 10 * line.done // line.total) > line.tenths:
            line.tenths = tenths
            status = line.pace.status(line.total, line.retries())
            self._out.print(f"  {_title(name, line)}: {10 * tenths} %, {status}")

    def _end_stage(self, name: str, line: _Line) -> None:
        if not line.stage:
            return
        if self._mode == "json":
            self._emit(name, line, ended=True)
        elif self._mode == "bar":
            self._end_bar(name, line)
        elif self._mode == "lines" and (_counts(line) or line.pace.seconds >= _WORTH_A_LINE):
            self._out.print(f"  {_title(name, line)}: {line.pace.summary(line.done, line.total)}")
        line.stage, line.ended = "", line.stage

    def _update_bar(self, name: str, line: _Line, status: str) -> None:
        assert self._bar is not None
        if not self._bar.live.is_started:
            self._bar.start()
        if line.task is None:
            line.task = self._bar.add_task(visible(_title(name, line)), total=line.total, status="")
        self._bar.update(line.task, completed=line.done, total=line.total, status=status)

    def _end_bar(self, name: str, line: _Line) -> None:
        if _counts(line):
            self._update_bar(name, line, line.pace.summary(line.done, line.total))
        elif self._bar is not None and line.task is not None:  # nothing was moved: there is nothing to say of it later
            self._bar.remove_task(line.task)

    def _emit(self, name: str, line: _Line, *, ended: bool = False) -> None:
        line.said = line.pace.seconds
        event = ProgressEvent(
            drive=name,
            stage=line.stage,
            done=line.done,
            total=line.total,
            rate=round(line.done / line.pace.seconds if ended else line.pace.rate),
            seconds_left=None if ended or (left := line.pace.left(line.total)) is None else round(left, 1),
            retries=line.retries(),
            ended=ended,
        )
        sys.stderr.write(as_json(event) + "\n")
        sys.stderr.flush()


def _title(name: str, line: _Line) -> str:
    return f"{name} {line.stage}".strip()


def _counts(line: _Line) -> bool:
    return line.total >= 1 << 20
