"""`machine`: how this computer started, what it can therefore start, and what a release asks of it."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..common.errors import UsageError
from ..common.outputs import OutputKind, write_output
from ..common.units import counted, exact_size
from .headings import Command
from .manner import manner
from .options import SourcePlace, authority_option, output_options, overwrite_option, replacing_of, terms_of
from .show import VERDICT_STYLES, Column, console, emit_json, facts, heading, paragraph, styled, table
from .sources import open_alone

if TYPE_CHECKING:
    from ..common.outputs import Replacing
    from ..families.asking import Shortfall
    from ..fetching.link import Place
    from ..machine.databases import DatabaseSummary
    from ..machine.facts import MachineFacts
    from ..machine.outlook import MachineOutlook
    from ..machine.requirements import Requirement

_UNKNOWN = "not known"
_STYLES = {"met": "good", "not met": "bad", "not known": "warn"}


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone machine
  lucky-keystone machine --for installer.iso
  lucky-keystone machine --save counter-3.toml
  lucky-keystone machine --blank > counter-4.toml""",
)
@click.option(
    "--for",
    "source",
    type=SourcePlace(),
    metavar="SOURCE",
    help="Compare this computer with what an installer asks for.",
)
@click.option(
    "--save",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="Save the facts as TOML, for --machine of other commands; what Secure Boot trusts goes into files beside it.",
)
@click.option("--name", default="", metavar="TEXT", help="With --save: what the shop calls this computer.")
@click.option("--blank", is_flag=True, help="Print a file to fill in by hand, for a machine that does not run.")
@authority_option
@overwrite_option
@output_options
def command(
    source: Place | None,
    save: Path | None,
    name: str,
    blank: bool,
    authority: Path | None,
    overwrite: bool,
    **_: Any,
) -> None:
    """Show how this computer started, what it can start, and what its Secure Boot trusts. Needs no permission."""
    from ..machine.facts import blank as blank_file
    from ..machine.this_machine import this_machine

    if blank:
        click.echo(blank_file(), nl=False)
        return
    import msgspec

    here = this_machine()
    found = msgspec.structs.replace(here.facts(), name=name)
    databases = {each: data for each in ("db", "dbx") if (data := here.database(each))}
    summaries, unknown = _summaries(databases), list(here.unknown())
    unknown += [f"{each} is damaged and is ignored in the forecast." for each in databases if each not in summaries]
    if save is not None:
        found = _saved(found, {each: databases[each] for each in summaries}, save, replacing_of(overwrite))
    asked = _asked(source, found, authority) if source is not None else None
    if manner().as_json:
        from .shop_documents import MachineDocument

        saved, requirements = str(save) if save else None, list(asked or ())
        emit_json(
            MachineDocument(facts=found, databases=summaries, unknown=unknown, requirements=requirements, saved=saved)
        )
        return
    _show(found, summaries, unknown)
    _show_further(asked, save)


def _show_further(asked: Sequence[Requirement] | None, save: Path | None) -> None:
    if asked is not None:
        _show_asked(asked)
    if save is not None:
        console().print(f"\nSaved: {save}")


def _saved(found: MachineFacts, databases: dict[str, bytes], path: Path, replacing: Replacing) -> MachineFacts:
    """Write the facts, and beside them what Secure Boot trusts; return the facts with the names of those files."""
    import msgspec

    from ..machine.facts import save_machine

    places = {each: path.with_suffix(f".{each}") for each in databases}
    for each, data in databases.items():
        write_output(places[each], data, OutputKind.LISTS, replacing)
    names = {each: (place.name,) for each, place in places.items()}
    found = msgspec.structs.replace(found, trusts=names.get("db", ()), refuses=names.get("dbx", ()))
    save_machine(found, path, replacing)
    return found


def _asked(source: Place, found: MachineFacts, authority: Path | None) -> tuple[Requirement, ...]:
    from ..families.asking import asked_of
    from ..families.families import facts_of

    return asked_of(found, facts_of(open_alone(source, terms_of(None, authority))))


def _summaries(databases: dict[str, bytes]) -> dict[str, DatabaseSummary]:
    """Return what is in the databases of Secure Boot that can be read."""
    from ..machine.databases import summary_of

    found: dict[str, DatabaseSummary] = {}
    for name, data in databases.items():
        with suppress(UsageError):
            found[name] = summary_of(name, data)
    return found


def _show(found: MachineFacts, databases: dict[str, DatabaseSummary], unknown: Sequence[str]) -> None:
    out = console()
    heading(out, found.name or found.model or "This computer")
    facts(out, [*_firmware_rows(found, databases), *_hardware_rows(found)])
    for each in unknown:
        paragraph(out, each, style="warn", indent=2, hanging=4)


def _firmware_rows(found: MachineFacts, databases: dict[str, DatabaseSummary]) -> list[tuple[str, str]]:
    architecture = f", {found.architecture}" if found.architecture else ""
    rows = [
        ("Processor", f"{found.processor or _UNKNOWN}{architecture}"),
        ("Started by", _started(found)),
        ("Starts by", _starts(found)),
    ]
    if found.secure_boot or found.started_by == "uefi":
        rows.append(("Secure Boot", found.secure_boot or _UNKNOWN))
    words = {"db": "It trusts", "dbx": "It refuses"}
    return rows + [(words[name], f"{name}: {_held(databases[name])}") for name in words if name in databases]


def _hardware_rows(found: MachineFacts) -> list[tuple[str, str]]:
    return [
        ("TPM", found.security_module or f"{_UNKNOWN} (the system shows none)"),
        ("Memory", exact_size(found.memory) if found.memory else _UNKNOWN),
        ("Largest disk", exact_size(found.storage) if found.storage else _UNKNOWN),
        ("POPCNT, SSE4.2", f"{found.popcnt or _UNKNOWN}, {found.sse4_2 or _UNKNOWN}"),
    ]


def _held(database: DatabaseSummary) -> str:
    known = f"the generation{'s' if len(database.generations) > 1 else ''} {' and '.join(database.generations)}"
    words = [known if database.generations else "no generation of the vendors'"]
    words.append(counted(len(database.certificates), "certificate"))
    words += [counted(database.digests, "digest")] if database.digests else []
    return ", ".join(words)


def _started(found: MachineFacts) -> str:
    if found.started_by is None:
        return "not known"
    if found.started_by == "bios":
        return "BIOS (whether it can start by UEFI, its setup says)"
    return f"UEFI{f', {found.uefi_width}-bit' if found.uefi_width else ''}"


def _starts(found: MachineFacts) -> str:
    words = {"yes": "yes", "no": "no", None: "not known"}
    return f"BIOS: {words[found.bios]}; UEFI: {words[found.uefi]}"


def _show_asked(asked: Sequence[Requirement]) -> None:
    out = console()
    heading(out, "What the release asks for")
    if not asked:
        paragraph(out, "Its setup has no hardware checks.", indent=2)
        return
    met = {each.met: styled(each.met, _STYLES[each.met]) for each in asked}
    table(
        out,
        [Column(), Column("Asked"), Column("Has"), Column(), Column("What next", folds=True)],
        [(each.name, each.asked, each.has or "?", met[each.met], each.next_step) for each in asked],
    )


def show_shortfalls(found: Sequence[Shortfall]) -> None:
    """Print where machines fall short of what a release asks for, and what the drive's waivers make of it."""
    for each in found:
        asked = each.requirement
        words = f"{each.machine}: {asked.name} {asked.has} (setup asks for: {asked.asked}); {each.next_step}."
        paragraph(console(), words, style="quiet" if each.is_waived else "warn", indent=2, hanging=4)


def show_machines(outlooks: Sequence[MachineOutlook]) -> None:
    """Print on which of the machines that were given a drive starts."""
    out = console()
    heading(out, "On your machines")
    table(
        out,
        [Column(), Column(), Column(), Column(folds=True, style="quiet")],
        [(styled(each.verdict, VERDICT_STYLES[each.verdict]), each.machine, each.by, each.reason) for each in outlooks],
        spoken=lambda row: f"{row[1]}: {row[0]}{f' ({row[2]})' if row[2] else ''}; {row[3]}",
    )
