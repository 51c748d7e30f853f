"""What a run asks and tells on its way, whoever listens: a terminal, or a test."""

from __future__ import annotations

from collections.abc import Collection
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Protocol

from ..common.progress import Progress
from .targets import Chosen


class Dialogue(Protocol):
    """What a run asks and tells."""

    def confirm_loss(self, chosen: Chosen, will: str) -> None:
        """Have it confirmed that everything on a drive is lost or put at risk; `will` says how. Raises ProtectError."""

    def confirm_change(self, chosen: Chosen, will: str, sources: Collection[Path] = ()) -> None:
        """Have it confirmed that a drive which keeps its files is changed; `will` says how. Raises ProtectError."""

    def tell(self, text: str) -> None:
        """Tell what happened on the way."""

    def progress(self) -> AbstractContextManager[Progress]:
        """Return what shows the progress of one step."""
