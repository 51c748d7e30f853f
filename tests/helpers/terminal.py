"""A program in a terminal of a given width: what it shows is awaited, what is typed is sent."""

from __future__ import annotations

import os
import re
import select
import signal
import struct
import subprocess
import time
from collections.abc import Mapping, Sequence
from types import TracebackType
from typing import Self

import pytest

LIMIT = 600.0
"""Seconds that only catch hanging."""


class Terminal:
    """Runs `command` in a pseudo-terminal; what it shows is kept without colours."""

    def __init__(self, command: Sequence[object], *, width: int = 100, environment: Mapping[str, str] = {}) -> None:
        fcntl, pty, termios = (pytest.importorskip(name) for name in ("fcntl", "pty", "termios"))
        self._master, slave = pty.openpty()
        fcntl.ioctl(slave, termios.TIOCSWINSZ, struct.pack("4H", 40, width, 0, 0))
        settings = {key: value for key, value in os.environ.items() if key not in ("NO_COLOR", "COLUMNS", "LINES")}
        self.child = subprocess.Popen(
            [str(word) for word in command],
            stdin=slave,
            stdout=slave,
            stderr=slave,
            start_new_session=True,
            preexec_fn=_take_terminal,
            env={**settings, "TERM": "xterm-256color", **environment},
        )
        os.close(slave)
        self.raw = b""
        self._seen = 0

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self.child.poll() is None:
            self.child.kill()
        self.child.wait()
        os.close(self._master)

    @property
    def text(self) -> str:
        """Everything shown so far, without colours and cursor movements."""
        plain = re.sub(rb"\x1b\[[0-9;?]*[A-Za-z]", b"", self.raw)
        return plain.decode("utf-8", "replace").replace("\r\n", "\n").replace("\r", "\n")

    def wait_for(self, words: str) -> None:
        """Wait until `words` are shown, wherever lines are folded, after what was waited for before."""
        while (at := " ".join(self.text.split()).find(words.strip(), self._seen)) < 0:
            assert self._read(), f"it ended without '{words}':\n{self.text}"
        self._seen = at + len(words.strip())

    def type(self, line: str) -> None:
        os.write(self._master, line.encode() + b"\n")

    def interrupt(self) -> None:
        """Press Ctrl-C."""
        os.write(self._master, b"\x03")

    def end(self) -> int:
        """Wait for the end; return the exit code."""
        while self._read():
            pass
        return self.child.wait(LIMIT)

    def _read(self) -> bool:
        limit = time.monotonic() + LIMIT
        while time.monotonic() < limit:
            if select.select([self._master], [], [], 1)[0]:
                try:
                    more = os.read(self._master, 65536)
                except OSError:
                    return False
                self.raw += more
                return bool(more)
        raise AssertionError(f"it hangs:\n{self.text}")


def _take_terminal() -> None:
    import fcntl
    import termios

    fcntl.ioctl(0, termios.TIOCSCTTY, 0)
    signal.signal(signal.SIGINT, signal.SIG_DFL)
