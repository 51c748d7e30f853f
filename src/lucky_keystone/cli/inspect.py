"""`inspect`: what a source is."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.errors import KeystoneError, SourceError, UsageError
from ..common.units import shown_size
from .completion import complete_edition
from .editions import WantedFiles, look_inside
from .headings import Command
from .manner import manner
from .options import SourcePlace, bay_option, gathered, output_options, source_options, terms_of
from .show import Column, console, emit_json, heading, paragraph, table
from .source_page import drive_needed, show_source
from .sources import open_given, prove, resolved

if TYPE_CHECKING:
    from ..doing.given import GivenSource
    from ..doing.parts import DrivePart
    from ..families.facts import Loader, SourceFacts
    from ..families.signing import LoaderSignature
    from ..fetching.link import Place
    from ..machine.requirements import Requirement
    from ..sources.source import Source
    from .documents import FoundInstaller


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone inspect installer.iso
  lucky-keystone inspect installer.iso --verify-source
  lucky-keystone inspect --find
  lucky-keystone inspect installer.iso --edition 2 --matching '*.efi'
  lucky-keystone inspect install.wim --edition Crew --take Windows/System32/drivers --into drivers/
  lucky-keystone inspect copied-files/ --add drivers/ --json
  lucky-keystone inspect 'Install Tidewell 14.app' --for MacBookPro15,1""",
)
@click.argument("source", type=SourcePlace(), required=False)
@click.option("--find", "finding", is_flag=True, help="Look for installers in this computer's usual places.")
@click.option(
    "--edition",
    metavar="N-or-NAME",
    shell_complete=complete_edition,
    help="Look inside this edition of the install image.",
)
@click.option("--list", "listing", is_flag=True, help="List the edition's files.")
@click.option("--matching", metavar="PATTERN", help="List only what matches: by name, or by path where it has a '/'.")
@click.option("--take", "taken", metavar="PATH", help="Take a file or folder out of the edition.")
@click.option("--into", "folder", type=click.Path(path_type=Path), metavar="FOLDER", help="Where --take puts it.")
@click.option(
    "--for",
    "model",
    metavar="MODEL",
    help="Of a macOS installer: is it for this Mac (MacBookPro15,1, or its board id)?",
)
@source_options
@bay_option
@output_options
@gathered("wanted", WantedFiles, "edition", "listing", "matching", "taken", "folder")
def command(
    source: Place | None,
    finding: bool,
    wanted: WantedFiles,
    model: str | None,
    given: GivenSource,
    bay: Path | None,
) -> int:
    """Show what SOURCE is: a disc image, a folder, an installer app or a disk image; also an https link to an image.

    Of a Windows installer: editions, architectures, loaders, files too large for FAT32. Of a macOS installer: release,
    supported models, and which stick to buy. Exit code 4 when it is not an installer.
    """
    if finding or source is None:
        if source is not None or not finding:
            raise click.UsageError("Name a SOURCE, or use --find alone.")
        if model is not None:
            raise UsageError("--for goes with a SOURCE.", advice="Name the installer app.")
        _find()
        return 0
    if wanted:
        if model is not None:
            raise UsageError("--for does not go with --edition.", advice="Leave one of them out.")
        if given.added or given.sha256 is not None or given.verify:
            raise UsageError(
                "--add, --sha256 and --verify-source do not go with --edition.",
                advice="Leave them out: what is taken is verified by its own SHA-1.",
            )
        look_inside(source, wanted, terms_of(None, given.authority, bay))
        return 0
    return _show_whole(source, given, bay, model)


def _show_whole(source: Place, given: GivenSource, bay: Path | None, model: str | None) -> int:
    """Show what a source is, and what a drive from it needs; return the exit code."""
    from ..families.families import facts_of, is_installer
    from ..families.signing import loader_signatures
    from ..planning.make import size_needed
    from ..sources.locating import naming_files

    place, terms = resolved(_drive_meant(source, bay), given, bay)
    opened = open_given(place, given, terms)
    proofs = prove(opened, terms.sha256 or None, given.verify)
    with naming_files(opened):
        found = facts_of(opened)
        code = 0 if is_installer(opened) and not found.unusable else SourceError.exit_code
        needed, refusal = size_needed(opened)
        signatures = loader_signatures(opened, found.loaders)
    parts = _parts(opened) if found.table else ()
    suits = _suits(found, model) if model is not None else None
    if manner().as_json:
        from .documents import InspectDocument

        emit_json(
            InspectDocument(
                source=str(source),
                facts=found,
                fingerprint=opened.fingerprint,
                proofs=proofs,
                signatures=signatures,
                needed=needed,
                cannot_be_built=refusal,
                model=suits,
                parts=parts,
            )
        )
        return code
    if code:
        paragraph(console(), refusal, style="bad")
        console().print()
    rows = [] if code else [drive_needed(opened, needed, refusal)]
    show_source(opened, proofs, rows + ([("This Mac", _suits_shown(suits))] if suits is not None else []))
    _show_parts(parts)
    _show_editions(found)
    _show_rest(found, signatures)
    if manner().verbose:
        _show_files(opened)
    return code


def _drive_meant(source: Place, bay: Path | None) -> Place:
    """Return where a drive is that was named by its tag; everything else as it is."""
    if not isinstance(source, Path) or source.exists() or source.name != str(source):
        return source
    from ..doing.targets import choose

    with suppress(KeystoneError):
        chosen = choose(str(source), bay, None)
        return chosen.path if chosen.exists else source
    return source


def _parts(drive: Source) -> tuple[DrivePart, ...]:
    from ..doing.parts import parts_on

    return parts_on(drive)


def _show_parts(parts: Sequence[DrivePart]) -> None:
    if not parts:
        return
    heading(console(), "Built from")
    columns = [Column("Source", folds=True), Column("What it is", folds=True), Column("Release")]
    table(
        console(),
        [*columns, Column("Size", right=True), Column("Asks for", folds=True), Column("Newer, downloaded", folds=True)],
        [
            (
                part.name,
                ", ".join(filter(None, (part.what, "/".join(part.architectures)))),
                " ".join(filter(None, (part.release, part.build and f"build {part.build}"))),
                shown_size(part.size),
                part.needs,
                part.newer,
            )
            for part in parts
        ],
    )
    if any(part.newer for part in parts):
        line = "'build --update' with the newer image in its place writes what differs, and leaves the others."
        paragraph(console(), line, indent=2)


def _suits(found: SourceFacts, model: str) -> Requirement:
    from ..families.asking import model_for

    if found.mac is None:
        raise UsageError("--for names a model of Mac, and this is not a macOS installer.", advice="Leave it out.")
    return model_for(found, model)


def _suits_shown(suits: Requirement) -> str:
    words = {"met": "is for it", "not met": f"is not for it: it asks for {suits.asked}", "not known": "may be for it"}
    return f"{suits.has}; the release {words[suits.met]}"


def _show_files(opened: Source) -> None:
    out = console()
    heading(out, "All files")
    files = sorted(opened.root.files(), key=lambda item: item[0])
    columns = [Column("Bytes", right=True), Column("Path", folds=True)]
    table(out, columns, [(f"{file.size:,}", path) for path, file in files])


def _find() -> None:
    """List what lies where downloads usually lie, and what each is."""
    from ..sources.finding import candidates, usual_places
    from .documents import FindDocument

    places = usual_places()
    found = [_found(path) for path in candidates(places)]
    if manner().as_json:
        emit_json(FindDocument(places=[str(place) for place in places], found=found))
        return
    out = console()
    if not found:
        out.print(f"No installer is in {', '.join(map(str, places)) or 'the usual places'}.")
        return
    table(
        out,
        [Column("Installer", folds=True), Column("What it is", folds=True), Column("Release")],
        [(one.path, one.family or f"not readable: {one.refused}", one.release) for one in found],
    )


def _found(path: Path) -> FoundInstaller:
    """Look into a file that may be an installer."""
    from ..families.families import facts_of, shown_family
    from ..sources.opening import open_source
    from .documents import FoundInstaller

    try:
        opened = open_source(path)
        facts, family = facts_of(opened), shown_family(opened)
    except KeystoneError as error:
        return FoundInstaller(path=str(path), family="", release="", refused=error.message)
    build = facts.mac.build if facts.mac is not None else str(facts.build or "")
    release = " ".join(filter(None, (facts.release, build and f"build {build}")))
    return FoundInstaller(path=str(path), family=family, release=release, refused="")


def _show_editions(found: SourceFacts) -> None:
    out = console()
    editions = [edition for image in found.images for edition in image.editions]
    if editions:
        heading(out, "Editions")
        columns = [Column("No.", right=True), Column("Name", folds=True), Column("Architecture"), Column("Version")]
        table(
            out,
            [*columns, Column("Languages", folds=True), Column("Installed size", right=True)],
            [
                (
                    str(edition.index),
                    edition.name,
                    edition.architecture,
                    edition.version,
                    ", ".join(edition.languages),
                    shown_size(edition.size),
                )
                for edition in editions
            ],
        )


def _show_rest(found: SourceFacts, signatures: Sequence[LoaderSignature]) -> None:
    out = console()
    if found.damage:
        heading(out, "Incomplete or damaged")
        for fault in found.damage:
            paragraph(out, fault, style="bad", indent=2, hanging=4)
    if found.mac is None:
        _show_loaders(found, signatures)
        _show_oversized(found)
    for note in found.notes:
        paragraph(out, f"Note: {note}", style="warn", indent=2, hanging=4)


def _show_loaders(found: SourceFacts, signatures: Sequence[LoaderSignature]) -> None:
    out = console()
    heading(out, "Boot files")
    if not found.loaders:
        out.print("  none that UEFI firmware or this program's boot code would start")
    for loader in found.loaders:
        _show_loader(loader, [one for one in signatures if one.path == loader.path], is_on_drive=bool(found.table))


def _show_loader(loader: Loader, signatures: Sequence[LoaderSignature], *, is_on_drive: bool) -> None:
    """`is_on_drive`: signatures are not looked for in an image of a drive; `check` does."""
    out = console()
    is_uefi = loader.firmware == "uefi" and bool(loader.architecture)
    made_for = f"UEFI {loader.architecture}" if is_uefi else loader.firmware.upper()
    odd = "" if loader.architecture else " (not a loader, by its header)"
    paragraph(out, f"{loader.path}: {made_for}, {loader.size:,} bytes{odd}", indent=2, hanging=4)
    if is_uefi and not signatures and not is_on_drive:
        paragraph(out, "unsigned: starts with Secure Boot off", indent=4, style="quiet")
    for one in signatures:
        known = f" ({one.generation} generation)" if one.generation else ""
        who = f"signed by '{one.signer}' under '{one.issuer}'{known}"
        style, told = ("bad", f"its signature does not fit: {one.fault}") if one.fault else ("quiet", who)
        paragraph(out, told, indent=4, hanging=6, style=style)


def _show_oversized(found: SourceFacts) -> None:
    if found.table:
        return
    out = console()
    heading(out, "Files too large for FAT32 (4 GiB and more)")
    if not found.oversized:
        out.print("  none")
    for path, size in found.oversized:
        out.print(f"  {path}: {shown_size(size)}")
