"""What every command that reads a source shows of it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import TYPE_CHECKING

from ..common.units import counted, exact_size, shown_size, size_to_buy
from .options import today
from .show import console, facts

if TYPE_CHECKING:
    from ..families.facts import MacFacts, SourceFacts
    from ..sources.source import Source

_PROCESSORS = {"x64": "Intel", "arm64": "Apple silicon"}
_MODELS = 3


def drive_needed(source: Source, needed: int | None, refusal: str) -> tuple[str, str]:
    """Say which is the smallest drive for a source, and which to buy; or why there is none."""
    from ..families.families import facts_of

    if needed is None:
        return "Smallest drive", f"none can be built from it: {refusal}"
    mac = facts_of(source).mac
    asked = mac.sold * 1_000_000_000 * 95 // 100 if mac else 0  # what the installer itself wants to be given
    return "Smallest drive", f"{exact_size(needed)}; to buy: {size_to_buy(max(needed, asked))}"


def show_source(source: Source, proofs: list[str], further: Sequence[tuple[str, str]] = ()) -> None:
    """Print the facts every command shows of a source."""
    from ..families.families import facts_of, shown_family

    found = facts_of(source)
    rows = [
        ("Source", f"{source.path}, {found.form}"),
        ("Kind", shown_family(source)),
        ("Label", found.label or "none"),
        *_rows_of(found),
    ]
    rows += [("With", f"{other.path}, {other.form}") for other in source.further]
    rows += [("Added", str(path)) for path in source.added]
    rows += [("Proof", _proof(source))] if source.remote_files and not proofs else []
    rows += [("Verified", proof) for proof in proofs]
    facts(console(), [*rows, *further])


def _rows_of(found: SourceFacts) -> list[tuple[str, str]]:
    """Return what is said of a source of its kind."""
    if found.mac is not None:
        return _mac_rows(found, found.mac)
    if found.table:
        return [("Table", found.table), ("Size", exact_size(found.total_bytes))]
    return [
        ("Release", f"{found.release}, build {found.build}" if found.build else "unknown"),
        ("Architectures", ", ".join(found.architectures) or "unknown"),
        ("Languages", ", ".join(found.languages) or "unknown"),
        ("Contents", _contents(found)),
    ]


def _proof(source: Source) -> str:
    """Say what will prove an image that is read from a server."""
    if source.sha256:
        return "its SHA-256 is compared while a drive is written, before the drive is finished"
    return "none: give its SHA-256 with --sha256 to have it compared"


def _contents(found: SourceFacts) -> str:
    files = f"{counted(found.file_count, 'file')} in {counted(found.folder_count, 'folder')}"
    return f"{files}, {shown_size(found.total_bytes)}"


def _mac_rows(found: SourceFacts, mac: MacFacts) -> list[tuple[str, str]]:
    build = f", build {mac.build}" if mac.build else ""
    contents, models = _contents(found), mac.models
    rows = [
        ("Installer", mac.title),
        ("Release", f"{found.release}{build}" if found.release else "unknown"),
        ("Generation", f"{mac.generation}: same layout" if mac.generation else "unknown"),
        ("Processors", " and ".join(_PROCESSORS[name] for name in found.architectures) or "unknown"),
        (
            "Models",
            f"{len(models)} listed: {', '.join(models[:_MODELS])}" if models else "not listed",
        ),
        ("Contents", contents),
    ]
    if len(models) > _MODELS:
        rows[-2] = ("Models", f"{rows[-2][1]} …")
    if mac.certified_until:
        rows.append(("Certificates", _certified(mac.certified_until)))
    if mac.base_unread:
        rows.append(("Base system", f"not examined: {mac.base_unread}"))
    return rows


def _certified(until: str) -> str:
    """Say until when an installer runs, by this computer's clock."""
    if date.fromisoformat(until) >= today():
        return f"valid until {until}"
    return f"expired on {until}: the installer refuses to run under a correct clock (set the Mac's back before it)"
