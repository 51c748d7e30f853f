"""What a run asks and tells, on the terminal."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from .confirming import confirm, confirm_change
from .manner import progress_mode
from .show import console, paragraph
from .stages import Stages

if TYPE_CHECKING:
    from ..doing.targets import Chosen
    from ..drives.guards import Guard


class TerminalDialogue(Struct, frozen=True):
    """Questions are asked on the terminal, unless `yes`; what is told goes to standard error."""

    yes: bool
    lifted: frozenset[Guard]

    def confirm_loss(self, chosen: Chosen, will: str) -> None:
        """Have the drive's name typed before what is on it is lost or put at risk."""
        confirm(chosen, yes=self.yes, needed=0, lifted=self.lifted, will=will)

    def confirm_change(self, chosen: Chosen, will: str, sources: Collection[Path] = ()) -> None:
        """Have the drive's name typed before it is changed."""
        confirm_change(chosen, will, yes=self.yes, lifted=self.lifted, sources=sources)

    def tell(self, text: str) -> None:
        """Tell it on standard error, unless only events are wanted there."""
        if progress_mode() != "json":
            paragraph(console(err=True), text)

    def progress(self) -> Stages:
        """Return what shows the progress of one step."""
        return Stages()
