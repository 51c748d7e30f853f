"""Runs a command of this program within another one, for its JSON document."""

from __future__ import annotations

import contextlib
import io
import json
from collections.abc import Sequence
from typing import Any


def run_captured(words: Sequence[str]) -> tuple[int, Any]:
    """Run a command with --json; return its exit code and its document, which may be that of an error."""
    from .main import main

    text = io.StringIO()
    with contextlib.redirect_stdout(text):
        code = main([*words, "--json"])
    return code, json.loads(text.getvalue())
