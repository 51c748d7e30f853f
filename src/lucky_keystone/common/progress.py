"""How work says how far it is."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[str, int, int], None]
"""Hears of progress: stage, bytes done, bytes in all."""


def silent(stage: str, done: int, total: int) -> None:
    """Hear of progress and say nothing."""
