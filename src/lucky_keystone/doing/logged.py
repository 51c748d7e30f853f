"""Enters what a command does in the shop's record."""

from __future__ import annotations

import time
from types import TracebackType
from typing import TYPE_CHECKING, Self

from ..common.errors import DriveError, Interrupted, KeystoneError, ProtectError
from ..common.notes import note
from ..common.units import rate
from .targets import Chosen

if TYPE_CHECKING:
    from ..checking.report import Report
    from ..sources.source import Source


class Logged:
    """Enters what happens in its block in the shop's record, whether it ends well or not."""

    def __init__(
        self, command: str, chosen: Chosen, source: Source | None = None, *, only_failures: bool = False
    ) -> None:
        self._command, self._chosen, self._source = command, chosen, source
        self._only_failures = only_failures
        self._started = time.monotonic()
        self.bytes_written = 0
        self.retries = 0
        self.reading = self.writing = 0
        self.detail = ""
        self.healthy = True
        self.blamed = False
        """The drive itself was the cause."""

    @property
    def seconds(self) -> float:
        """How long it has taken so far."""
        return time.monotonic() - self._started

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if error is None and not self._only_failures:
            self.enter(None)
        elif isinstance(error, KeystoneError | KeyboardInterrupt):
            self.enter(error)

    def tell_checked(self, report: Report, retries: int) -> None:
        """Take over what a check found, and how fast the drive was read."""
        self.retries, self.healthy = retries, report.exit_code == 0
        self.blamed = report.blames_drive
        self.detail = next((each.what for each in report.findings if each.level in ("fault", "start")), "")
        self.reading = rate(report.bytes_checked, self.seconds)

    def _size(self) -> int:
        """Bytes of the drive; 0 where it is not there, or cannot be asked any more: an entry must not fail the work."""
        try:
            return self._chosen.size if self._chosen.exists else 0
        except (OSError, KeystoneError):
            return 0

    def enter(self, error: BaseException | None) -> None:
        """Write the entry. A record that cannot be written is warned of, and no more."""
        from ..shop import file as shopfile
        from ..shop import log as shoplog

        drive, source = self._chosen.drive, self._source
        entry = shoplog.LogEntry(
            moment=shopfile.now(),
            command=self._command,
            result=_result(error, healthy=self.healthy),
            tag=self._chosen.name,
            model=drive.model if drive else "",
            serial=drive.serial if drive else "",
            size=self._size(),
            source=source.path.name if source else "",
            label=source.label if source else "",
            fingerprint=source.fingerprint if source else "",
            bytes_written=self.bytes_written,
            seconds=round(self.seconds, 1),
            retries=self.retries,
            detail=(error.message if isinstance(error, KeystoneError) else "") or self.detail,
            reading=self.reading,
            writing=self.writing,
            blamed=self.blamed or isinstance(error, DriveError),
        )
        try:
            shoplog.add(entry)
        except DriveError as trouble:
            note(f"{trouble.message} {trouble.advice}")


def _result(error: BaseException | None, *, healthy: bool) -> str:
    if error is None:
        return "done" if healthy else "faults"
    if isinstance(error, Interrupted | KeyboardInterrupt):
        return "interrupted"
    return "refused" if isinstance(error, ProtectError) else "failed"
