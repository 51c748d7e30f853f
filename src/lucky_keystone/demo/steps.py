"""A step of the demo: one command line, typed for whoever watches."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from msgspec import Struct

from ..drives.bay import Bay


class Step(Struct, frozen=True):
    """One command of the job."""

    title: str
    arguments: list[str]
    code: int = 0
    """The exit code it is meant to end with."""
    lesson: str = ""
    before: Callable[[], None] | None = None


def tags_of(folder: Path) -> dict[str, str]:
    """Return the tags of the demo's drives, by the names of their files."""
    return {drive.path.name: drive.tag for drive in Bay(folder / "bay").drives()}
