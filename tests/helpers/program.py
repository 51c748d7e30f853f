"""Runs the program as it is installed."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from functools import cache
from pathlib import Path
from typing import Any

from .forked import HANGS, Loaded
from .resident import Resident

_MODULES = os.environ.get("PYTHONPATH")
PROGRAM = [sys.executable, "-m", "lucky_keystone"]


@cache
def loaded() -> Loaded:
    """Return the process that all runs are copies of."""
    return Loaded()


@cache
def resident() -> Resident:
    """Return the process that runs one command line after the other, where there are no copies."""
    return Resident()


def run(
    *arguments: object, code: int = 0, cwd: Path | None = None, typed: str | None = None, log: Path | str | None = None
) -> subprocess.CompletedProcess[str]:
    """Run a command line; it has to end with `code`. `log` is the shop's record, else the environment says it."""
    settings = os.environ | ({} if log is None else {"LUCKY_KEYSTONE_LOG": str(log)})
    words = list(map(str, arguments))
    if settings.get("PYTHONPATH") != _MODULES:  # which only the start of a program reads
        done = subprocess.run(
            [*PROGRAM, *words],
            capture_output=True,
            text=True,
            cwd=cwd,
            input=typed,
            check=False,
            timeout=HANGS,
            env=settings,
        )
    elif sys.platform == "win32":
        done = resident().run(words, cwd, typed, settings, HANGS)
    else:
        done = loaded().run(words, cwd, typed, settings)
    assert done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done


def run_json(*arguments: object, code: int = 0, log: Path | str | None = None) -> dict[str, Any]:
    """Run a command line with --json and return its document."""
    document: dict[str, Any] = json.loads(run(*arguments, "--json", code=code, log=log).stdout)
    assert document["schema"] == 1
    return document
