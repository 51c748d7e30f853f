"""`mend`: a drive that has its files and does not start, made to start without erasing it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.errors import UsageError
from ..common.shell import quoted
from ..doing.after import eject
from ..doing.targets import existing, finished
from .brief import show_verdicts
from .completion import complete_drive, complete_undo
from .dialogue import TerminalDialogue
from .guided import drive_asked_for
from .headings import Command
from .manner import manner
from .options import (
    SourcePlace,
    Word,
    authority_option,
    bay_option,
    guard_options,
    output_options,
    terms_of,
)
from .show import Column, console, emit_json, heading, marked, paragraph, starts, table
from .sources import open_alone

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from ..checking.report import Finding
    from ..doing.mend import MendProposal, MendRun, Written
    from ..doing.targets import Chosen
    from ..drives.guards import Guard
    from ..fetching.link import Place
    from ..fetching.remote import Terms
    from ..mending.journal import MendJournal
    from ..mending.make import Mending
    from ..mending.remedy import NotMended, Remedy, Wishes
    from ..sources.source import Source
    from .documents import LeftBody, MendState, RemedyBody


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone mend G7KM --dry-run
  lucky-keystone mend G7KM --unmount --eject
  lucky-keystone mend counter.img --from installer.iso
  lucky-keystone mend counter.img --undo mend-3f0c55a0d1e2-20261129T081500Z.mend""",
)
@click.argument("drive", required=False, shell_complete=complete_drive)
@click.option(
    "--from",
    "sources",
    type=SourcePlace(),
    metavar="SOURCE",
    multiple=True,
    help="Take files that are missing or damaged from this installer (disc image, folder), where the drive is FAT32. "
    "Repeatable, for a drive of several sources, in the order in which they were given to build.",
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
    is_flag=False,
    flag_value="",
    metavar="[FILE]",
    shell_complete=complete_undo,
    help="Take back DRIVE's last repair, every byte that it replaced; or the repair that this undo file is of.",
)
@click.option("--list", "listing", is_flag=True, help="List the undo files that are kept on this computer.")
@click.option("--sector-size", type=Word(["512", "4096"]), metavar="BYTES", help="Where the drive does not show it.")
@click.option("--eject", "ejecting", is_flag=True, help="Eject the drive when done.")
@authority_option
@guard_options
@bay_option
@output_options
def command(
    drive: str | None,
    sources: tuple[Place, ...],
    firmware: str | None,
    replace_code: bool,
    dry_run: bool,
    undo: str | None,
    listing: bool,
    sector_size: str | None,
    ejecting: bool,
    authority: Path | None,
    yes: bool,
    lifted: frozenset[Guard],
    bay: Path | None,
) -> int:
    """Make DRIVE start without erasing it.

    What 'check' finds is mended where it is certain how: tables, boot code, boot sectors and their copies, active
    marks, and on FAT32 missing files. Everything is shown first. What is replaced is kept in an undo file on this
    computer, and --undo brings it back. Exit code 1 when something is left that could not be mended.
    """
    if undo is not None and (sources or firmware or replace_code or dry_run):
        raise UsageError("--undo goes with no other choice.", advice="Leave the others out.")
    if listing:
        _list()
        return 0
    from ..doing.mend import MendRun, drive_of, journal_at
    from ..mending.journal import MendJournal
    from ..mending.remedy import Wishes

    dialogue, size = TerminalDialogue(yes=yes, lifted=lifted), int(sector_size) if sector_size else None
    if undo and drive is None and not undo.endswith(".mend"):
        drive, undo = undo, ""  # what follows --undo is taken for its value
    if undo:
        journal = MendJournal(journal_at(Path(undo)))
        return _undo(MendRun(existing(drive or drive_of(journal), bay), dialogue, lifted, size), journal)
    if drive is None:
        drive = drive_asked_for(bay)
    run = MendRun(finished(drive, bay), dialogue, lifted, size)
    if undo is not None:
        return _undo(run, run.last_journal())
    opened = _opened(sources, terms_of(None, authority, bay))
    run.settle(dry_run=dry_run)
    return _mend(run, Wishes(replace_code=replace_code, source=opened), firmware or "", bay, dry_run, ejecting)


def _list() -> None:
    """Show by which files something can be taken back."""
    from ..common.places import journals
    from ..mending.journal import kept_in

    found = kept_in(journals())
    if manner().as_json:
        from .documents import MendListDocument, UndoFile

        files = [
            UndoFile(path=str(each.path), drive=each.text.name, moment=each.text.moment, state=each.state)
            for each in found
        ]
        emit_json(MendListDocument(undo_files=files))
        return
    out = console()
    if not found:
        paragraph(out, "No repair is kept on this computer.")
        return
    columns = [Column("Repaired"), Column("Drive"), Column(), Column("Undo file", folds=True)]
    states = {"written": "", "cut off": "interrupted", "undone": "taken back already"}
    table(
        out,
        columns,
        [(each.text.moment, each.text.name, states.get(each.state, each.state), each.path.name) for each in found],
    )


def _opened(places: tuple[Place, ...], terms: Terms) -> Source | None:
    """Return the sources that files are taken from, those of several where their drive has them."""
    if not places:
        return None
    source = open_alone(places[0], terms, (), places[1:])
    if len(places) == 1:
        return source
    from ..families.families import as_on_drive, known_family

    return as_on_drive(known_family(source), source)


def _mend(run: MendRun, wishes: Wishes, firmware: str, bay: Path | None, dry_run: bool, ejecting: bool) -> int:
    """Show what can be mended, write it unless `dry_run`, and tell how it ended; return the exit code."""
    proposal, chosen = run.propose(firmware, wishes), run.chosen
    if not manner().as_json:
        show_mending(proposal, chosen.name, dry_run=dry_run)
    if not proposal.steps or dry_run:
        _emit("planned" if proposal.steps else "nothing to mend", chosen, proposal)
        return proposal.exit_code
    written = run.mend(proposal, wishes.source)
    if ejecting:
        written.notes.extend(eject(chosen))
    _emit("mended", chosen, proposal, written)
    if not manner().as_json:
        _conclude(chosen, proposal.mending, written, bay)
    return 1 if proposal.mending.leaves_faults else 0


def _undo(run: MendRun, journal: MendJournal) -> int:
    written = run.undo(journal)
    if manner().as_json:
        from .documents import MendUndoneDocument

        drive = str(run.chosen.path)
        emit_json(MendUndoneDocument(drive=drive, journal=str(journal.path), bytes_written=written))
    else:
        words = f"Every byte that the repair of {journal.text.moment} replaced is back on {run.chosen.name}."
        paragraph(console(), words, style="good")
    return 0


def _conclude(chosen: Chosen, mending: Mending, written: Written, bay: Path | None) -> None:
    out = console()
    out.print()
    is_whole = not mending.leaves_faults
    words = f"{chosen.name} is mended{'' if is_whole else ', but not all of it'}, and was checked again."
    paragraph(out, words, style="good" if is_whole else "warn")
    for note in written.notes:
        paragraph(out, note, indent=2, hanging=4)
    if not manner().quiet:
        paragraph(out, f"What was replaced is kept in {written.journal}.", indent=2, hanging=4)
        drive = chosen.name if chosen.drive else quoted(str(chosen.path))
        where = f" --bay {quoted(str(bay))}" if bay and chosen.drive else ""
        back = f"To bring it back: lucky-keystone mend {drive}{where} --undo {written.journal.name}"
        paragraph(out, back, indent=2, hanging=4)


def _emit(state: MendState, chosen: Chosen, proposal: MendProposal, written: Written | None = None) -> None:
    if not manner().as_json:
        return
    from .documents import MendDocument

    mending = proposal.mending
    emit_json(
        MendDocument(
            drive=str(chosen.path),
            state=state,
            remedies=[_remedy_body(remedy) for remedy in mending.remedies],
            left=[_left_body(left) for left in mending.left],
            starts=list(mending.after.report.starts),
            journal=str(written.journal) if written else None,
            differing=None if proposal.differing is None else list(proposal.differing),
            bytes_written=written.byte_count if written else 0,
            notes=written.notes if written else [],
        )
    )


# -- what is shown ---------------------------------------------------------------------------------------------------


def show_mending(proposal: MendProposal, name: str, *, dry_run: bool) -> None:
    """Print what is found, what is written about it and where, and what stays."""
    out, mending, steps = console(), proposal.mending, proposal.steps
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
        if mending.leaves_faults:
            out.print("Nothing that can be mended.", style="warn")
        else:
            _show_compared(out, name, proposal.differing)
    if mending.after.report.starts and not manner().quiet:
        heading(out, "Starts on, once mended" if steps else "Starts on")
        rows = mending.after.report.starts
        starts(out, rows) if manner().verbose else show_verdicts(rows)


def _show_compared(out: Console, name: str, differing: Sequence[Finding] | None) -> None:
    """Say of a drive whose structure is in order how its bytes are."""
    if differing:
        for finding in differing:
            paragraph(out, marked("FAULT", "bad", finding.what), indent=2, hanging=9)
        paragraph(out, "Nothing that can be mended in place.", style="warn")
        paragraph(
            out, f"'lucky-keystone build SOURCE --onto {name} --update' writes only what differs from the source."
        )
        return
    out.print("Nothing to mend.", style="good")
    words = "Every byte is as it was built."
    if differing is None:
        words = f"The bytes of files were not compared: 'lucky-keystone check {name}' does that."
    paragraph(out, words, style="quiet")


def _show_remedy(out: Console, remedy: Remedy) -> None:
    code = f" [{remedy.code.value}]" if manner().verbose else ""
    found = marked("FOUND", "warn", f"{remedy.finding.what}{code}")
    paragraph(out, found, indent=2, hanging=9)
    paragraph(out, marked("mend", "good", remedy.what), indent=2, hanging=9)
    if remedy.why:
        paragraph(out, f"Evidence: {remedy.why}.", style="quiet", indent=9, hanging=11)
    if not manner().verbose:
        return
    places: dict[str, list[str]] = {}
    for change in remedy.changes:
        places.setdefault(change.what, []).append(f"{change.offset:,} to {change.end - 1:,}")
    for what, ranges in places.items():
        paragraph(out, f"{what}: bytes {', '.join(ranges)}", style="quiet", indent=9, hanging=11)


def _show_left(out: Console, left: NotMended) -> None:
    code = f" [{left.code.value}]" if manner().verbose else ""
    paragraph(out, marked("STAYS", "bad", f"{left.finding.what}{code}"), indent=2, hanging=9)
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
