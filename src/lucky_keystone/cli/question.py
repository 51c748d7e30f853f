"""One question in a terminal, and Ctrl-C as an answer that is never lost."""

from __future__ import annotations

import os
import select
import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager

import click

from .manner import manner
from .streams import is_terminal


def can_ask() -> bool:
    """True where somebody reads and answers: a terminal on all ends, and no JSON wanted."""
    return all(is_terminal(stream) for stream in (sys.stdin, sys.stdout, sys.stderr)) and not manner().as_json


def ask(question: str) -> str:
    """Ask for a line; return it without blanks around it.

    Raises click.Abort at Ctrl-C and where the input ends: both are the wish to stop.
    """
    click.echo(f"{question}: ", nl=False, err=True)
    try:
        _wait_for_a_line()
        line = sys.stdin.readline()
    except KeyboardInterrupt:
        line = ""
    if not line:
        click.echo(err=True)
        raise click.Abort
    return line.strip()


def _wait_for_a_line() -> None:
    """Return when a line can be read; a signal that came shortly before ends the waiting as well.

    The interpreter looks for signals before it reads, not while: one that comes in between is seen only after the next
    key. Waiting for the input and for the signal's own byte leaves no such gap. Windows has no such waiting for its
    console, and needs none: its reading ends at Ctrl-C.
    """
    if os.name == "nt":
        return
    with _bytes_of_signals() as signals:
        while sys.stdin not in select.select([sys.stdin, signals], [], [])[0]:
            os.read(signals, 4096)


@contextmanager
def _bytes_of_signals() -> Iterator[int]:
    """A descriptor that can be read as soon as a signal came."""
    readable, writable = os.pipe()
    os.set_blocking(writable, False)
    before = signal.set_wakeup_fd(writable, warn_on_full_buffer=False)
    try:
        yield readable
    finally:
        signal.set_wakeup_fd(before)
        os.close(readable)
        os.close(writable)
