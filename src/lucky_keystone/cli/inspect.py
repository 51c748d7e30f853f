"""`inspect`: what a source is."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..errors import KeystoneError
from ..units import exact_size, shown_size
from .options import json_option, source_options, today, verbose_option
from .show import Stages, console, emit_json, facts, grid, heading

if TYPE_CHECKING:
    from ..families.facts import MacFacts, SourceFacts
    from ..sources.source import Source

_PROCESSORS = {"x64": "Intel", "arm64": "Apple silicon"}
_MODELS = 3
_UNKNOWN = "not an installer that is known here"


@click.command(
    epilog="""\b
Examples:
  lucky-keystone inspect installer.iso
  lucky-keystone inspect installer.iso --verify-source
  lucky-keystone inspect --find
  lucky-keystone inspect copied-files/ --add drivers/ --json"""
)
@click.argument("source", type=click.Path(path_type=Path), required=False)
@click.option("--find", "finding", is_flag=True, help="Look for installers in this computer's usual places.")
@source_options
@json_option
@verbose_option
def command(
    source: Path | None,
    finding: bool,
    added: tuple[Path, ...],
    sha256: str | None,
    verify_source: bool,
    as_json: bool,
    verbose: bool,
) -> None:
    """Tell what SOURCE is: a disc image, a folder, an installer app, a disk image.

    Editions, architectures, loaders, files too large for FAT32; of a macOS installer release, models and what to buy.
    """
    if finding or source is None:
        if source is not None or not finding:
            raise click.UsageError("Give a SOURCE, or --find alone.")
        _find(as_json=as_json)
        return
    from ..families.families import facts_of

    opened = open_with_progress(source, added, quiet=as_json)
    proofs = prove(opened, sha256, verify_source, quiet=as_json)
    found = facts_of(opened)
    needed, refusal = needs(opened)
    if as_json:
        body = {"source": str(source), "facts": _as_dict(found), "fingerprint": opened.fingerprint, "proofs": proofs}
        emit_json("inspect", {**body, "needed": needed, "cannot_be_built": refusal})
        return
    out = console()
    need = f"a drive of at least {exact_size(needed)}" if needed else f"no drive can be built: {refusal}"
    show_source(opened, proofs, [("Needs", need)])
    _show_editions(found)
    _show_rest(found)
    if verbose:
        heading(out, "All files")
        for path, file in sorted(opened.root.files(), key=lambda item: item[0]):
            out.print(f"  {file.size:>15,}  {path}")


def _find(*, as_json: bool) -> None:
    """List what lies where downloads usually lie, and what each is."""
    from ..families.families import facts_of, family_of
    from ..sources.finding import candidates, usual_places
    from ..sources.opening import open_source

    places = usual_places()
    found: list[dict[str, str]] = []
    for path in candidates(places):
        try:
            opened = open_source(path)
            facts, family = facts_of(opened), family_of(opened)
            build = facts.mac.build if facts.mac is not None else str(facts.build or "")
            what, release = (
                family.shown if family else _UNKNOWN,
                " ".join(filter(None, (facts.release, build and f"build {build}"))),
            )
            found.append({"path": str(path), "family": what, "release": release, "refused": ""})
        except KeystoneError as error:
            found.append({"path": str(path), "family": "", "release": "", "refused": error.message})
    if as_json:
        emit_json("inspect", {"places": [str(place) for place in places], "found": found})
        return
    out = console()
    if not found:
        out.print(f"No installer is in {', '.join(map(str, places)) or 'the usual places'}.")
        return
    table = grid("Installer", "What it is", "Release")
    for one in found:
        table.add_row(one["path"], one["family"] or f"not readable: {one['refused']}", one["release"])
    out.print(table)


def _show_editions(found: SourceFacts) -> None:
    out = console()
    editions = [edition for image in found.images for edition in image.editions]
    if editions:
        heading(out, "Editions")
        table = grid("", "Name", "Architecture", "Version", "Languages", ">Installed")
        for edition in editions:
            table.add_row(
                f"  {edition.index}",
                edition.name,
                edition.architecture,
                edition.version,
                ", ".join(edition.languages),
                shown_size(edition.size),
            )
        out.print(table)


def _show_rest(found: SourceFacts) -> None:
    out = console()
    if found.damage:
        heading(out, "Not whole")
        for fault in found.damage:
            out.print(f"  {fault}", style="bold red")
    if found.mac is not None:
        for note in found.notes:
            out.print(f"  Note: {note}", style="yellow")
        return
    heading(out, "Loaders")
    if not found.loaders:
        out.print("  none that UEFI firmware or our boot code would start")
    for loader in found.loaders:
        made_for = (
            f"UEFI {loader.architecture}"
            if loader.firmware == "uefi" and loader.architecture
            else loader.firmware.upper()
        )
        out.print(
            f"  {loader.path}: {made_for}, {loader.size:,} bytes"
            + ("" if loader.architecture else " (no loader by its header)")
        )
    if not found.table:
        heading(out, "Files larger than FAT32 holds")
        if not found.oversized:
            out.print("  none")
        for path, size in found.oversized:
            out.print(f"  {path}: {shown_size(size)}")
    for note in found.notes:
        out.print(f"  Note: {note}", style="yellow")


def needs(source: Source) -> tuple[int | None, str]:
    """Return the bytes a drive must have when everything is decided by the tool, or None and why none can be built."""
    from ..families.choices import Choices
    from ..families.family import DriveShape
    from ..planning.make import make_plan

    try:
        return make_plan(source, Choices(), DriveShape("any drive", None)).needed, ""
    except KeystoneError as error:
        return None, str(error)


def open_with_progress(path: Path, added: tuple[Path, ...], *, quiet: bool, further: tuple[Path, ...] = ()) -> Source:
    """Open a source; one that has to be measured first says how far it is."""
    from ..sources.opening import open_source

    with Stages(quiet=quiet) as stages:
        return open_source(path, added, stages, further)


def prove(source: Source, sha256: str | None, wanted: bool, *, quiet: bool) -> list[str]:
    """Verify the source as asked; return one line for each proof."""
    from ..families.proving import verify_source

    if sha256 is None and not wanted:
        return []
    with Stages(quiet=quiet) as stages:
        return verify_source(source, sha256, stages, integrity=wanted)


def show_source(source: Source, proofs: list[str], further: Sequence[tuple[str, str]] = ()) -> None:
    """Print the facts every command shows of a source."""
    from ..families.families import facts_of, family_of

    found, family = facts_of(source), family_of(source)
    out = console()
    rows = [
        ("Source", f"{source.path}, {found.form}"),
        ("Family", family.shown if family else _UNKNOWN),
        ("Label", found.label or "none"),
    ]
    if found.mac is not None:
        rows += _mac_rows(found, found.mac)
    elif found.table:
        rows += [("Table", found.table), ("Size", exact_size(found.total_bytes))]
    else:
        contents = f"{found.file_count:,} files in {found.folder_count:,} folders, {shown_size(found.total_bytes)}"
        rows += [
            ("Release", f"{found.release}, build {found.build}" if found.build else "unknown"),
            ("Architectures", ", ".join(found.architectures) or "unknown"),
            ("Languages", ", ".join(found.languages) or "unknown"),
            ("Contents", contents),
        ]
    rows += [("With", f"{other.path}, {other.form}") for other in source.further]
    rows += [("Added", str(path)) for path in source.added]
    rows += [("Verified", proof) for proof in proofs]
    rows += further
    facts(out, rows)


def _mac_rows(found: SourceFacts, mac: MacFacts) -> list[tuple[str, str]]:
    build = f", build {mac.build}" if mac.build else ""
    contents = f"{found.file_count:,} files in {found.folder_count:,} folders, {shown_size(found.total_bytes)}"
    rows = [
        ("Installer", mac.title),
        ("Release", f"{found.release}{build}" if found.release else "unknown"),
        ("Generation", f"{mac.generation}: built alike" if mac.generation else "unknown"),
        ("Processors", " and ".join(_PROCESSORS[name] for name in found.architectures) or "unknown"),
        ("Models", f"{len(mac.models)} listed: {', '.join(mac.models[:_MODELS])}" if mac.models else "not listed"),
        ("Contents", contents),
    ]
    if len(mac.models) > _MODELS:
        rows[-2] = ("Models", f"{rows[-2][1]} …")
    if mac.certified_until:
        rows.append(("Certificates", _certified(mac.certified_until)))
    if mac.base_unread:
        rows.append(("Base system", f"not looked into: {mac.base_unread}"))
    return [*rows, ("To buy", f"a stick of {mac.sold} GB or more")] if mac.sold else rows


def _certified(until: str) -> str:
    """Say until when an installer runs, by this computer's clock."""
    if date.fromisoformat(until) >= today():
        return f"valid until {until}"
    return f"expired on {until}: the installer refuses to run under a correct clock (set the Mac's back before it)"


def _as_dict(found: SourceFacts) -> dict[str, Any]:
    import msgspec

    return msgspec.to_builtins(found)  # type: ignore[no-any-return]
