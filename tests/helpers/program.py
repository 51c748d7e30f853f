"""Runs the program as it is installed."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

PROGRAM = [sys.executable, "-m", "lucky_keystone"]


def run(
    *arguments: object, code: int = 0, cwd: Path | None = None, typed: str | None = None, log: Path | str | None = None
) -> subprocess.CompletedProcess[str]:
    """Run a command line; it has to end with `code`. `log` is the shop's record, else the environment says it."""
    command = [*PROGRAM, *map(str, arguments)]
    done = subprocess.run(
        command,
        capture_output=True,
        text=True,
        cwd=cwd,
        input=typed,
        check=False,
        timeout=1200,
        env=os.environ | ({} if log is None else {"LUCKY_KEYSTONE_LOG": str(log)}),
    )
    assert done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done


def run_json(*arguments: object, code: int = 0, log: Path | str | None = None) -> dict[str, Any]:
    """Run a command line with --json and return its document."""
    document: dict[str, Any] = json.loads(run(*arguments, "--json", code=code, log=log).stdout)
    assert document["schema"] == 1
    return document
