"""How work says how far it is."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[str, int, int], None]
"""Called with progress: stage, bytes done, bytes in all."""


def silent(stage: str, done: int, total: int) -> None:
    """Take progress and say nothing."""
