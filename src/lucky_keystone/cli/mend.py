"""`mend`: a drive that has its files and does not start, made to start without erasing it."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from contextlib import closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.console import Console
from rich.text import Text

from ..common.errors import KeystoneError, ProtectError, UsageError
from ..common.shell import quoted
from ..common.units import counted
from ..doing.after import eject, tell_system
from ..doing.logged import Logged
from ..doing.targets import Chosen, existing, guard, open_for_writing, reading
from .confirming import confirm_change
from .manner import manner
from .options import (
    SourcePlace,
    Word,
    authority_option,
    bay_option,
    complete_drive,
    guard_options,
    output_options,
    terms_of,
)
from .show import console, emit_json, heading, paragraph, starts
from .sources import open_alone
from .stages import Stages, tell

if TYPE_CHECKING:
    from ..drives.guards import Guard
    from ..fetching.link import Place
    from ..mending.journal import Journal
    from ..mending.make import Mending
    from ..mending.remedy import NotMended, Remedy
    from ..mending.steps import Step
    from ..sources.source import Source
    from .documents import LeftBody, RemedyBody

_RANGES = 3
"""Byte ranges that are listed of one thing that is written; --json has all."""


@click.command(
    epilog="""\b
Examples:
  lucky-keystone mend G7KM --dry-run
  lucky-keystone mend G7KM --unmount --eject
  lucky-keystone mend counter.img --from installer.iso
  lucky-keystone mend counter.img --undo mend-3f0c55a0d1e2-20261129T081500Z.mend"""
)
@click.argument("drive", required=False, shell_complete=complete_drive)
@click.option(
    "--from",
    "source",
    type=SourcePlace(),
    metavar="SOURCE",
    help="Take files that are missing or damaged from this installer (disc image, folder), where the drive is FAT32.",
)
@click.option(
    "--firmware",
    type=Word(["bios", "uefi", "both"]),
    help="What the drive must start on. By default: what its manifest says, or what its files are for.",
)
@click.option(
    "--boot-code",
    "replace_code",
    is_flag=True,
    help="Write this program's boot code even where another maker's is there that may work.",
)
@click.option("--dry-run", is_flag=True, help="Show what would be written, and write nothing.")
@click.option(
    "--undo",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="JOURNAL",
    help="Bring back every byte that a mending replaced.",
)
@click.option("--sector-size", type=Word(["512", "4096"]), metavar="BYTES", help="Where the drive does not show it.")
@click.option("--eject", "ejecting", is_flag=True, help="Eject the drive when done.")
@authority_option
@guard_options
@bay_option
@output_options
def command(
    drive: str | None,
    source: Place | None,
    firmware: str | None,
    replace_code: bool,
    dry_run: bool,
    undo: Path | None,
    sector_size: str | None,
    ejecting: bool,
    authority: Path | None,
    yes: bool,
    lifted: frozenset[Guard],
    bay: Path | None,
) -> int:
    """Make DRIVE start without erasing it.

    What 'check' finds is mended where it is certain how: tables, boot code, boot sectors and their copies, active
    marks, and on FAT32 missing files. Everything is shown first. What is replaced is kept in a journal on this
    computer, and --undo JOURNAL brings it back (DRIVE may be left out then). Exit code 1 when something is left that
    could not be mended.
    """
    if undo is not None and (source is not None or firmware or replace_code or dry_run):
        raise UsageError("--undo goes with no other choice.", advice="Leave the others out.")
    if drive is None:
        if undo is None:
            raise click.UsageError("DRIVE is missing.")
        drive = _drive_of(undo)
    chosen = existing(drive, bay)
    work = _Work(chosen, int(sector_size) if sector_size else None, bay, yes=yes, lifted=lifted)
    if undo is not None:
        return work.undo(undo)
    opened = open_alone(source, terms_of(None, authority, bay)) if source is not None else None
    return work.mend(opened, firmware or "", replace_code=replace_code, dry_run=dry_run, ejecting=ejecting)


def _drive_of(undo: Path) -> str:
    """Return what names the drive that a journal belongs to: its image file, or its tag."""
    from ..mending.journal import Journal

    text = Journal(_journal_at(undo)).text
    return text.drive if Path(text.drive).is_file() else text.name


def _journal_at(named: Path) -> Path:
    """Return the place of a journal: a name alone is looked for where this computer keeps them."""
    from ..common.places import journals

    return named if named.exists() or named.name != str(named) else journals() / named


class _Work:
    """One run of the command on one drive."""

    def __init__(
        self, chosen: Chosen, sector_size: int | None, bay: Path | None, *, yes: bool, lifted: Collection[Guard]
    ) -> None:
        from ..common.places import journals

        self._bay = bay
        self._chosen, self._yes, self._lifted = chosen, yes, lifted
        self._sector = sector_size or (chosen.drive.sector_size if chosen.drive else None)
        self._kept = chosen.shelf().get()
        self._folder = journals()
        self._prefix = f"mend-{chosen.digest[:12]}-"

    # -- mending -------------------------------------------------------------------------------------------------

    def mend(self, source: Source | None, firmware: str, *, replace_code: bool, dry_run: bool, ejecting: bool) -> int:
        from ..mending.remedy import Wishes

        self._refuse_unfinished(dry_run=dry_run)
        wishes = Wishes(replace_code=replace_code, source=source)
        mending, steps = self._decide(firmware, wishes)
        if not manner().as_json:
            show_mending(mending, steps, self._chosen.name, dry_run=dry_run)
        if not steps or dry_run:
            state = "planned" if steps else "nothing to mend"
            self._emit(state, mending, None, 0, [])
            return 1 if mending.leaves_faults or steps else 0
        paths = tuple(source.places) if source is not None else ()
        with Logged("mend", self._chosen, source) as log:
            confirm_change(
                self._chosen,
                f"{counted(len(mending.remedies), 'remedy', 'remedies')} will be written onto it, as listed",
                yes=self._yes,
                lifted=self._lifted,
                sources=paths,
            )
            path, written, notes = self._write(mending, steps, paths)
            log.bytes_written = written
            log.healthy = not mending.leaves_faults
            log.detail = ", ".join(remedy.code for remedy in mending.remedies)
        if ejecting:
            notes += eject(self._chosen)
        self._emit("mended", mending, path, written, notes)
        if not manner().as_json:
            self._conclude(mending, path, notes)
        return 1 if mending.leaves_faults else 0

    def _decide(self, firmware: str, wishes: Any) -> tuple[Mending, list[Step]]:
        from ..checking.check import find_sector_size
        from ..mending.make import make_mending
        from ..mending.steps import make_steps

        with reading(self._chosen) as medium, Stages() as stages:
            medium.forget_cache()
            self._sector = self._sector or find_sector_size(medium, self._kept)
            mending = make_mending(medium, self._sector, stages, kept=self._kept, firmware=firmware, wishes=wishes)
            return mending, make_steps(medium, mending.changes, self._sector)

    def _write(self, mending: Mending, steps: Sequence[Step], sources: Sequence[Path]) -> tuple[Path, int, list[str]]:
        from ..drives.host import Span
        from ..mending.carry_out import carry_out, check_again
        from ..mending.journal import JournalText
        from ..mending.steps import make_steps
        from ..shop.file import now

        assert self._sector is not None
        moment = now()
        path = self._free_journal(moment.replace("-", "").replace(":", ""))
        text = JournalText(str(self._chosen.path), self._chosen.name, moment, [each.what for each in mending.remedies])
        medium = open_for_writing(self._chosen, self._chosen.size, 0, lifted=self._lifted, sources=sources)
        with closing(medium):
            medium.forget_cache()
            if make_steps(medium, mending.changes, self._sector) != list(steps):
                raise ProtectError(
                    f"{self._chosen.name} was changed since it was examined; nothing was written.",
                    advice="Run the command again.",
                )
            with Stages() as stages:
                written, notes = carry_out(steps, medium, path, text, self._sector, stages)
                check_again(mending, medium, kept=self._kept)
            partitions = [
                Span(each.number, each.first_lba * self._sector, each.sector_count * self._sector)
                for each in mending.after.table.partitions
            ]
            return path, written, notes + tell_system(self._chosen, medium, partitions)

    def _free_journal(self, moment: str) -> Path:
        """Return a place for a journal; of two mendings within a second the later one gets a number."""
        path, number = self._folder / f"{self._prefix}{moment}.mend", 1
        while path.exists():
            number += 1
            path = self._folder / f"{self._prefix}{moment}-{number}.mend"
        return path

    def _conclude(self, mending: Mending, path: Path, notes: Sequence[str]) -> None:
        out = console()
        out.print()
        is_whole = not mending.leaves_faults
        words = f"{self._chosen.name} is mended{'' if is_whole else ', but not all of it'}, and was checked again."
        paragraph(out, words, style="good" if is_whole else "warn")
        for note in notes:
            paragraph(out, note, indent=2, hanging=4)
        if not manner().quiet:
            paragraph(out, f"What was replaced is kept in {path}.", indent=2, hanging=4)
            drive = self._chosen.name if self._chosen.drive else quoted(str(self._chosen.path))
            bay = f" --bay {quoted(str(self._bay))}" if self._bay and self._chosen.drive else ""
            back = f"To bring it back: lucky-keystone mend {drive}{bay} --undo {path.name}"
            paragraph(out, back, indent=2, hanging=4)

    def _emit(self, state: Any, mending: Mending, journal: Path | None, written: int, notes: Sequence[str]) -> None:
        if not manner().as_json:
            return
        from .documents import MendDocument

        emit_json(
            MendDocument(
                drive=str(self._chosen.path),
                state=state,
                remedies=[_remedy_body(remedy) for remedy in mending.remedies],
                left=[_left_body(left) for left in mending.left],
                starts=list(mending.after.report.starts),
                journal=str(journal) if journal else None,
                bytes_written=written,
                notes=list(notes),
            )
        )

    # -- the way back --------------------------------------------------------------------------------------------

    def undo(self, named: Path) -> int:
        from ..mending.journal import Journal

        path = _journal_at(named)
        journal = Journal(path)
        if journal.state == "not begun":
            raise UsageError(f"{path}: that mending wrote nothing to the drive.", advice="There is nothing to undo.")
        what = f"what the mending of {journal.text.moment} replaced will be put back"
        confirm_change(self._chosen, what, yes=self._yes, lifted=self._lifted)
        written = self._put_back(journal, "undo")
        if manner().as_json:
            from .documents import MendUndoneDocument

            emit_json(MendUndoneDocument(drive=str(self._chosen.path), journal=str(path), bytes_written=written))
        else:
            words = f"Every byte that the mending of {journal.text.moment} replaced is back on {self._chosen.name}."
            paragraph(console(), words, style="good")
        return 0

    def _put_back(self, journal: Journal, name: str) -> int:
        from ..mending.journal import put_back

        with Logged(name if name == "mend" else "mend --undo", self._chosen) as log:
            medium = open_for_writing(self._chosen, self._chosen.size, 0, lifted=self._lifted)
            with closing(medium), Stages() as stages:
                log.bytes_written = put_back(journal, medium, stages)
            log.detail = f"put back what the mending of {journal.text.moment} replaced"
        return log.bytes_written

    def _refuse_unfinished(self, *, dry_run: bool) -> None:
        """Put back what a mending wrote that was cut off; raise where something else is unfinished on the drive."""
        from ..manifest.unfinished import read_unfinished
        from ..mending.journal import pending

        if self._chosen.journal().read() is not None:
            raise ProtectError(
                f"A measuring of {self._chosen.name} was cut off, and its marks are still on the drive.",
                advice=f"Run 'lucky-keystone gauge {self._chosen.name} --restore' first.",
            )
        for journal in pending(self._folder, self._prefix):
            what = f"A mending of {self._chosen.name} ({journal.text.moment}) was cut off"
            with reading(self._chosen) as medium:
                is_complete = medium.size == journal.header.drive_size and journal.is_complete(medium)
            if is_complete:
                with suppress(KeystoneError):
                    journal.mark("written")
                tell(f"The mending of {journal.text.moment} was complete, which could not be noted then.")
                continue
            if dry_run:
                raise ProtectError(f"{what}.", advice="Run 'mend' without --dry-run: it puts back what was written.")
            confirm_change(
                self._chosen,
                f"{what[:1].lower()}{what[1:]}: what it wrote will be put back first",
                yes=self._yes,
                lifted=self._lifted,
            )
            self._put_back(journal, "mend")
            tell(f"{what}; everything it wrote was put back.")
        guard(self._chosen, needed=0, lifted=self._lifted) if not dry_run else None
        with reading(self._chosen) as medium:
            if read_unfinished(medium, self._sector or 512) is not None:
                raise ProtectError(
                    f"The build of {self._chosen.name} was not completed: there is nothing finished to mend.",
                    advice="Run the same 'build' command again: it continues.",
                )


# -- what is shown ---------------------------------------------------------------------------------------------------


def show_mending(mending: Mending, steps: Sequence[Step], name: str, *, dry_run: bool) -> None:
    """Print what is found, what is written about it and where, and what stays."""
    out = console()
    if mending.remedies and steps:
        heading(out, f"{'Would be' if dry_run else 'To be'} written onto {name}")
        for remedy in mending.remedies:
            _show_remedy(out, remedy)
    if mending.left:
        heading(out, "Left as it is")
        for left in mending.left:
            _show_left(out, left)
    if not steps:
        out.print()
        words = "Nothing to mend." if not mending.leaves_faults else "Nothing that can be mended."
        out.print(words, style="good" if not mending.leaves_faults else "warn")
    if mending.after.report.starts and not manner().quiet:
        heading(out, "Starts on, once mended" if steps else "Starts on")
        starts(out, mending.after.report.starts)
        out.print()


def _show_remedy(out: Console, remedy: Remedy) -> None:
    code = f" [{remedy.code.value}]" if manner().verbose else ""
    found = Text.assemble(("FOUND  ", "warn"), f"{remedy.finding.what}{code}")
    paragraph(out, found, indent=2, hanging=9)
    paragraph(out, Text.assemble(("mend   ", "good"), remedy.what), indent=2, hanging=9)
    if remedy.why:
        paragraph(out, f"Evidence: {remedy.why}.", style="quiet", indent=9, hanging=11)
    places: dict[str, list[str]] = {}
    for change in remedy.changes:
        places.setdefault(change.what, []).append(f"{change.offset:,} to {change.end - 1:,}")
    for what, ranges in places.items():
        shown = ranges if manner().verbose else ranges[:_RANGES]
        more = f" and {len(ranges) - len(shown):,} more (-v lists them)" if len(ranges) > len(shown) else ""
        paragraph(out, f"{what}: bytes {', '.join(shown)}{more}", style="quiet", indent=9, hanging=11)


def _show_left(out: Console, left: NotMended) -> None:
    code = f" [{left.code.value}]" if manner().verbose else ""
    paragraph(out, Text.assemble(("STAYS  ", "bad"), f"{left.finding.what}{code}"), indent=2, hanging=9)
    paragraph(out, f"Not mended: {left.why}.", style="quiet", indent=9, hanging=11)
    if left.advice:
        paragraph(out, f"What next: {left.advice}", style="quiet", indent=9, hanging=11)


def _remedy_body(remedy: Remedy) -> RemedyBody:
    from .documents import RemedyBody, WriteBody

    writes = [WriteBody(offset=change.offset, size=change.size, what=change.what) for change in remedy.changes]
    return RemedyBody(finding=remedy.finding, what=remedy.what, evidence=remedy.why, writes=writes)


def _left_body(left: NotMended) -> LeftBody:
    from .documents import LeftBody

    return LeftBody(finding=left.finding, why=left.why, advice=left.advice)
