"""Asking before a drive is erased or changed: its tag or file name is typed."""

from __future__ import annotations

import sys
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ..common.errors import KeystoneError, ProtectError
from ..common.units import shown_size
from ..doing.logged import Logged
from ..doing.targets import Chosen, contents_of, guard, reading
from ..drives.guards import Guard
from .question import ask
from .show import console, paragraph
from .streams import is_terminal
from .text import visible

if TYPE_CHECKING:
    from ..doing.jobs import DriveJob, Pair
    from ..doing.request import WantedDrive
    from ..sources.source import Source


def confirm(
    chosen: Chosen,
    *,
    yes: bool,
    needed: int,
    lifted: Collection[Guard],
    sources: Collection[Path] = (),
    will: str = "erased",
    continues: bool = False,
    warnings: Sequence[str] = (),
) -> None:
    """Make sure that `chosen` may be written. Raises ProtectError unless its tag or file name was typed, or `yes`.

    An image file that holds no more than the beginning of this very build is not asked for again. `warnings` are what
    should keep somebody from it.
    """
    guard(chosen, needed=needed, lifted=lifted, sources=sources)
    if not chosen.exists or yes or (continues and chosen.is_image_file):
        return
    what = _described(chosen)
    if not is_terminal(sys.stdin):
        raise ProtectError(
            f"{chosen.name} ({what}) would be {will}, and there is no terminal to confirm on.",
            advice="Add --yes when that is what you want.",
        )
    _tell_what_is_lost(chosen, what, will)
    for words in warnings:
        paragraph(console(err=True), words, style="bad", indent=2, hanging=4)
    _let_name_be_typed(chosen)


def confirm_all(job: DriveJob, pairs: Sequence[Pair], opened: Source, *, yes: bool) -> None:
    """Have every drive of a build confirmed; a refusal is entered in the record. Raises ProtectError."""
    for each, one in pairs:
        with Logged(job.kind, each, opened, only_failures=True):
            confirm(
                each,
                yes=yes,
                needed=one.plan.needed,
                lifted=job.lifted,
                sources=(*opened.places, *job.others),
                will=job.will,
                continues=one.continues,
                warnings=_refusals(one),
            )


def _refusals(wanted: WantedDrive) -> list[str]:
    """Say which of the machines that a drive is for will not start it."""
    from ..machine.known import outlooks_of

    outlooks = outlooks_of(wanted.machines, wanted.plan.bootable) if wanted.machines else ()
    return [
        f"{each.machine} will not start it: {each.reason}." for each in outlooks if each.verdict == "will not start"
    ]


def confirm_change(
    chosen: Chosen, will: str, *, yes: bool, lifted: Collection[Guard], sources: Collection[Path] = ()
) -> None:
    """Make sure that `chosen`, which keeps its files, may be changed. `will` says how. Raises as `confirm` does."""
    guard(chosen, needed=0, lifted=lifted, sources=sources)
    if yes:
        return
    what = f"{chosen.name} ({_described(chosen)})"
    if not is_terminal(sys.stdin):
        raise ProtectError(
            f"{what}: {will}, and there is no terminal to confirm on.",
            advice="Add --yes when that is what you want.",
        )
    out = console(err=True)
    out.print()
    paragraph(out, f"{what}: {will}. Its files stay.", style="bold")
    _let_name_be_typed(chosen)


def _described(chosen: Chosen) -> str:
    return f"{chosen.drive.model}, {shown_size(chosen.size)}" if chosen.drive else shown_size(chosen.size)


def _let_name_be_typed(chosen: Chosen) -> None:
    typed = ask(f"Type {visible(chosen.name)} to continue")
    if typed.upper() != chosen.name.upper():
        raise ProtectError(
            "That is not its name; nothing was written.", advice="Run the command again when you are sure."
        )


def _tell_what_is_lost(chosen: Chosen, what: str, will: str) -> None:
    """Say what is on a drive now: files that someone still wants are lost more often than anything else."""
    from ..drives.contents import inventories

    out = console(err=True)
    out.print()
    paragraph(
        out, f"Everything on {chosen.name} ({what}) will be {will}. On it now: {contents_of(chosen)}.", style="bold"
    )
    try:
        with reading(chosen) as medium:
            for found in inventories(medium, chosen.sector_size):
                paragraph(out, f"{found.volume}: {found.summary}", indent=2, hanging=4)
                for newest in found.newest:
                    paragraph(out, f"{newest.modified:%Y-%m-%d %H:%M}  {newest.path}", indent=4, hanging=22)
    except KeystoneError as error:
        paragraph(out, f"Its files could not be listed: {error.message}", indent=2, hanging=4)
