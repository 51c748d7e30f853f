"""`report`: a page to keep with a drive, as HTML or as a picture."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.errors import UsageError
from ..common.outputs import OutputKind, refuse_output, write_output
from ..doing.logged import Logged
from ..doing.targets import Chosen, finished, reading
from .headings import Command
from .manner import manner
from .options import (
    SourcePlace,
    authority_option,
    bay_option,
    drive_argument,
    machine_options,
    output_options,
    overwrite_option,
    replacing_of,
    terms_of,
)
from .show import console, emit_json, paragraph
from .sources import open_alone
from .stages import Stages

if TYPE_CHECKING:
    from ..checking.check import Examined
    from ..doing.given import GivenMachines
    from ..fetching.link import Place
    from ..machine.known import KnownMachine
    from ..manifest.format import Manifest
    from ..reporting.page import Page
    from ..starting.trust import Machine

_ENDINGS = (".html", ".png")


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone report G7KM --to G7KM.html
  lucky-keystone report counter.img --to counter.png --machine counter-3.toml
  lucky-keystone report G7KM --to G7KM.html --source installer.iso""",
)
@drive_argument
@click.option(
    "--to",
    "target",
    required=True,
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="Where the page goes: .html for screen and print, .png for a picture of it (A4).",
)
@click.option(
    "--source",
    type=SourcePlace(),
    metavar="SOURCE",
    help="The image or folder it was built from: the page says whether it is that one, and gives an image's SHA-256.",
)
@machine_options
@authority_option
@overwrite_option
@bay_option
@output_options
def command(
    drive: str,
    target: Path,
    source: Place | None,
    machines: GivenMachines,
    authority: Path | None,
    overwrite: bool,
    bay: Path | None,
) -> int:
    """Check DRIVE, and write a page to keep with it: what it is, from which source, why so, and how to start from it.

    One sheet, which prints well and needs neither colours nor a network. The decisions and their reasons are those of
    this computer's record. Exit code 1 when the check finds something wrong; the page is written all the same.
    """
    from ..reporting.page import Subject, page_of
    from ..shop.built import recall
    from ..shop.log import history
    from ..shop.trends import trends

    if target.suffix.lower() not in _ENDINGS:
        raise UsageError(f"{target.name}: a page is written as .html or .png.", advice="Use one of these extensions.")
    chosen = finished(drive, bay)
    replacing = replacing_of(overwrite, chosen.path, *([source] if isinstance(source, Path) else []))
    refuse_output(target, OutputKind.PAGE, replacing)
    attached = chosen.drive
    seen = _examined(chosen, machines.machine(), machines.known())
    digest, fault = _proven(source, seen.manifest, authority, bay) if source is not None else ("", "")
    entries = history(chosen.name, attached.serial if attached else "")
    built = recall(seen.manifest.about.build) if seen.manifest is not None and seen.manifest.about.build else None
    subject = Subject(
        name=chosen.name,
        model=attached.model if attached else "image file",
        serial=attached.serial if attached else "",
        size=chosen.size,
        source_sum=digest,
        source_fault=fault,
    )
    page = page_of(subject, seen, built, entries, trends(entries), datetime.now().astimezone())
    write_output(target, _drawn(page, target.suffix.lower()), OutputKind.PAGE, replacing)
    if manner().as_json:
        from .check import check_body
        from .documents import ReportDocument

        emit_json(ReportDocument(drive=str(chosen.path), page=str(target), check=check_body(seen.report)))
        return seen.report.exit_code
    paragraph(console(), f"{page.title}: {page.result}.", style="good" if page.is_good else "bad")
    if fault:
        paragraph(console(), f"Careful: {fault}", style="warn")
    paragraph(console(), f"Page written: {target}")
    return seen.report.exit_code


def _drawn(page: Page, extension: str) -> bytes:
    if extension == ".png":
        from ..reporting.picture import png_of

        return png_of(page)
    from ..reporting.html import html_of

    return html_of(page)


def _examined(chosen: Chosen, machine: Machine, known: tuple[KnownMachine, ...]) -> Examined:
    """Check a drive whole, and return that together with what it was found in."""
    from ..checking.check import check_whole, find_sector_size

    kept = chosen.shelf().get()
    with Logged("check", chosen) as log, reading(chosen) as medium, Stages() as stages:
        medium.forget_cache()
        sector = chosen.drive.sector_size if chosen.drive else find_sector_size(medium, kept)
        seen = check_whole(medium, stages, sector_size=sector, machine=machine, kept=kept, machines=known)
        log.tell_checked(seen.report, medium.retries)
        return seen


def _proven(place: Place, manifest: Manifest | None, authority: Path | None, bay: Path | None) -> tuple[str, str]:
    """Return the SHA-256 of a source that is a file, and why it is not what the drive was built from, or ''."""
    from ..families.proving import sum_of

    if not isinstance(place, Path):
        raise UsageError("--source is a file or folder on this computer.", advice="Fetch it first, or leave it out.")
    opened = open_alone(place, terms_of(None, authority, bay))
    fault = ""
    if manifest is not None and opened.fingerprint != manifest.about.source.fingerprint:
        fault = f"{place.name} is not what this drive was built from: names, sizes or times of its files differ."
    if place.is_dir():
        return "", fault
    with Stages() as stages:
        return sum_of(opened, stages), fault
