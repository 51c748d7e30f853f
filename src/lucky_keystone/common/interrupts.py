"""Ctrl-C and its relatives: ending a process in good order, and not in the middle of what must not be cut off."""

from __future__ import annotations

import signal
import threading
from types import FrameType, TracebackType
from typing import Any, Self

from .errors import Interrupted

_SIGNALS = tuple(getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP", "SIGBREAK") if hasattr(signal, name))


def end_like_ctrl_c() -> None:
    """Let the signals that end a process (a closed terminal, a system going down) do what Ctrl-C does.

    One that is ignored on purpose, as under nohup, stays ignored. Only the main thread can do this.
    """
    for number in _SIGNALS:
        if number != signal.SIGINT and signal.getsignal(number) == signal.SIG_DFL:
            signal.signal(number, _raise)


def end_in_peace() -> None:
    """Ignore further signals while the rest is done: the end has come already."""
    if threading.current_thread() is threading.main_thread():
        for number in _SIGNALS:
            signal.signal(number, signal.SIG_IGN)


def _raise(_number: int, _frame: FrameType | None) -> None:
    raise KeyboardInterrupt


class HeldInterrupts:
    """While its block runs, signals wait: `check()` raises Interrupted at places where stopping is safe.

    At the block's end one that waited is raised as KeyboardInterrupt, unless an error is on its way already. In other
    threads than the main one, which get no signals, it does nothing.
    """

    def __init__(self) -> None:
        self._before: dict[int, Any] = {}
        self._waiting = False

    def __enter__(self) -> Self:
        if threading.current_thread() is threading.main_thread():
            for number in _SIGNALS:
                if signal.getsignal(number) != signal.SIG_IGN:
                    self._before[number] = signal.signal(number, self._note)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for number, handler in self._before.items():
            signal.signal(number, handler)
        if self._waiting and kind is None:
            raise KeyboardInterrupt

    def check(self) -> None:
        """Raise Interrupted when a signal is waiting."""
        if self._waiting:
            raise Interrupted("Stopped before the end.", advice="Run the command again.")

    def _note(self, _number: int, _frame: FrameType | None) -> None:
        self._waiting = True
