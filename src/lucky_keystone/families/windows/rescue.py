"""Windows rescue discs: a setup environment with nothing to install. They are built as installers are."""

from __future__ import annotations

from typing import ClassVar

from ...sources.source import Source
from .facts import is_rescue
from .setup import WindowsSetup


class WindowsRescue(WindowsSetup):
    """A setup environment without an install image: repair, recovery, a workshop's own tools."""

    name: ClassVar[str] = "windows-rescue"
    shown: ClassVar[str] = "Windows rescue disc: a setup environment, nothing to install"

    def recognises(self, source: Source) -> bool:
        return is_rescue(source)
