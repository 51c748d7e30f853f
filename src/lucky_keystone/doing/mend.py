"""The run of `mend`: examined, confirmed, kept in a journal, written, examined again; and the way back."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing, suppress
from pathlib import Path

from msgspec import Struct

from ..checking.check import check_drive, find_sector_size
from ..checking.report import Finding
from ..common.errors import KeystoneError, ProtectError, UsageError
from ..common.places import journals
from ..common.units import counted
from ..drives.guards import Guard
from ..drives.host import Span
from ..manifest.unfinished import read_unfinished
from ..mending.carry_out import check_again, write_steps
from ..mending.journal import JournalText, MendJournal, kept_in, pending, put_back
from ..mending.make import Mending, make_mending
from ..mending.remedy import Wishes
from ..mending.steps import Step, make_steps
from ..shop.file import now
from ..sources.source import Source
from .after import tell_system
from .dialogue import Dialogue
from .logged import Logged
from .targets import Chosen, guard, open_for_writing, reading

_SOON_COMPARED = 256 << 20
"""Bytes: some seconds on a slow stick."""


class MendProposal(Struct, frozen=True):
    """What can be mended on a drive, and what is written for it."""

    mending: Mending
    steps: Sequence[Step]
    sector_size: int
    differing: Sequence[Finding] | None = None
    """Of a drive with nothing to mend: what a comparison of its bytes found; None where that would take long."""

    @property
    def exit_code(self) -> int:
        """What the program ends with when nothing is written: 1 when something is wrong with the drive."""
        return 1 if self.mending.leaves_faults or self.steps or self.differing else 0


class Written(Struct, frozen=True):
    """What was written onto a drive, and the journal that takes it back."""

    journal: Path
    byte_count: int
    notes: list[str]


class MendRun(Struct, frozen=True):
    """One run on one drive."""

    chosen: Chosen
    dialogue: Dialogue
    lifted: frozenset[Guard]
    sector_size: int | None
    """Bytes; None: found on the drive."""

    def propose(self, firmware: str, wishes: Wishes) -> MendProposal:
        """Examine the drive; nothing is written. `firmware` as Mending has it."""
        kept = self.chosen.shelf().get()
        with reading(self.chosen) as medium, self.dialogue.progress() as progress:
            medium.forget_cache()
            sector_size = self._sector_size or find_sector_size(medium, kept)
            mending = make_mending(medium, sector_size, progress, kept=kept, firmware=firmware, wishes=wishes)
            steps = make_steps(medium, mending.changes, sector_size)
            if steps or mending.leaves_faults or not _is_soon_compared(mending):
                return MendProposal(mending, steps, sector_size)
            report = check_drive(medium, progress, sector_size=sector_size, kept=kept, firmware=firmware)
            faults = tuple(finding for finding in report.findings if finding.level == "fault")
            return MendProposal(mending, steps, sector_size, faults)

    def mend(self, proposal: MendProposal, source: Source | None) -> Written:
        """Have it confirmed, and write it; files may come from `source`."""
        mending, sources = proposal.mending, tuple(source.places) if source is not None else ()
        with Logged("mend", self.chosen, source) as log:
            will = f"{counted(len(mending.remedies), 'remedy', 'remedies')} will be written onto it, as listed"
            self.dialogue.confirm_change(self.chosen, will, sources)
            written = self._write(proposal, sources)
            log.bytes_written = written.byte_count
            log.healthy = not mending.leaves_faults
            log.detail = ", ".join(remedy.code for remedy in mending.remedies)
        return written

    def undo(self, journal: MendJournal) -> int:
        """Put back every byte that a repair replaced; return how many."""
        if journal.state == "not begun":
            raise UsageError(
                f"{journal.path}: that repair wrote nothing to the drive.", advice="There is nothing to undo."
            )
        self.dialogue.confirm_change(self.chosen, f"what the repair of {journal.text.moment} replaced will be put back")
        try:
            return self._put_back(journal, "mend --undo")
        except ProtectError as error:
            if journal.text.name == self.chosen.name:
                raise
            raise ProtectError(
                f"{journal.path.name} is of a repair of {journal.text.name}: {error.message}",
                advice=f"'lucky-keystone mend {self.chosen.name} --undo' takes back its own last repair.",
            ) from error

    def last_journal(self) -> MendJournal:
        """Return the journal of the drive's last repair. Raises UsageError where none is kept here."""
        there = [each for each in kept_in(journals(), self._prefix) if each.state != "undone"]
        if not there:
            raise UsageError(
                f"No repair of {self.chosen.name} is kept on this computer.",
                advice="'lucky-keystone mend --list' shows those that are.",
            )
        return there[0]

    def settle(self, *, dry_run: bool) -> None:
        """Put back what an interrupted repair wrote. Raises ProtectError where something else is unfinished."""
        name = self.chosen.name
        if self.chosen.journal().read() is not None:
            raise ProtectError(
                f"A gauge run on {name} was interrupted; its test marks are still on the drive.",
                advice=f"Run 'lucky-keystone gauge {name} --restore' first.",
            )
        for journal in pending(journals(), self._prefix):
            self._settle_journal(journal, dry_run=dry_run)
        if not dry_run:
            guard(self.chosen, needed=0, lifted=self.lifted)
        with reading(self.chosen) as medium:
            if (found := read_unfinished(medium, self._sector_size or 512)) is not None:
                raise ProtectError(
                    f"{name} is an {found.shown}: there is nothing finished to mend.", advice=found.next_step
                )

    def _settle_journal(self, journal: MendJournal, *, dry_run: bool) -> None:
        what = f"repair of {self.chosen.name} ({journal.text.moment}) was interrupted"
        with reading(self.chosen) as medium:
            is_complete = medium.size == journal.header.drive_size and journal.is_complete(medium)
        if is_complete:
            with suppress(KeystoneError):
                journal.mark("written")
            self.dialogue.tell(f"The repair of {journal.text.moment} was complete, but could not be recorded as such.")
            return
        if dry_run:
            raise ProtectError(f"A {what}.", advice="Run 'mend' without --dry-run: it puts back what was written.")
        self.dialogue.confirm_change(self.chosen, f"a {what}: what it wrote will be put back first")
        self._put_back(journal, "mend")
        self.dialogue.tell(f"A {what}; everything it wrote was put back.")

    def _put_back(self, journal: MendJournal, command: str) -> int:
        with Logged(command, self.chosen) as log:
            medium = open_for_writing(self.chosen, self.chosen.size, 0, lifted=self.lifted)
            with closing(medium), self.dialogue.progress() as progress:
                log.bytes_written = put_back(journal, medium, progress)
            log.detail = f"put back what the repair of {journal.text.moment} replaced"
        return log.bytes_written

    def _write(self, proposal: MendProposal, sources: Sequence[Path]) -> Written:
        mending, sector_size = proposal.mending, proposal.sector_size
        moment = now()
        path = self._free_journal(moment.replace("-", "").replace(":", ""))
        text = JournalText(str(self.chosen.path), self.chosen.name, moment, [each.what for each in mending.remedies])
        kept = self.chosen.shelf().get()
        medium = open_for_writing(self.chosen, self.chosen.size, 0, lifted=self.lifted, sources=sources)
        with closing(medium):
            medium.forget_cache()
            if make_steps(medium, mending.changes, sector_size) != list(proposal.steps):
                raise ProtectError(
                    f"{self.chosen.name} was changed since it was examined; nothing was written.",
                    advice="Run the command again.",
                )
            with self.dialogue.progress() as progress:
                written, notes = write_steps(proposal.steps, medium, path, text, sector_size, progress)
                check_again(mending, medium, kept=kept)
            partitions = [
                Span(each.number, each.first_lba * sector_size, each.sector_count * sector_size)
                for each in mending.after.table.partitions
            ]
            return Written(path, written, notes + tell_system(self.chosen, medium, partitions))

    @property
    def _sector_size(self) -> int | None:
        return self.sector_size or (self.chosen.drive.sector_size if self.chosen.drive else None)

    @property
    def _prefix(self) -> str:
        """The beginning of the names of this drive's journals."""
        return f"mend-{self.chosen.digest[:12]}-"

    def _free_journal(self, moment: str) -> Path:
        """Return a place for a journal; of two repairs within a second the later one gets a number."""
        path, number = journals() / f"{self._prefix}{moment}.mend", 1
        while path.exists():
            number += 1
            path = journals() / f"{self._prefix}{moment}-{number}.mend"
        return path


def _is_soon_compared(mending: Mending) -> bool:
    """Tell whether the drive has a manifest of so few bytes that nobody minds waiting for their comparison."""
    manifest = mending.after.manifest
    if manifest is None:
        return False
    total = 0
    for _, _, size, _ in manifest.blocks():
        total += size
        if total > _SOON_COMPARED:
            return False
    return True


def journal_at(named: Path) -> Path:
    """Return the place of a journal: a name alone is looked for where this computer keeps them."""
    return named if named.exists() or named.name != str(named) else journals() / named


def drive_of(journal: MendJournal) -> str:
    """Return what names the drive that a journal belongs to: its image file, or its tag."""
    return journal.text.drive if Path(journal.text.drive).is_file() else journal.text.name
