"""Plan files: what was decided, as TOML that can be saved, edited by hand, and built again (see docs/formats.md).

The file holds what decides: source, drive, what the technician chose, and what the tool decided, with its reasons.
Layout and forecast are in it as comments: they follow from the rest and are worked out again.
"""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct, field
from msgspec.structs import replace

from ..common.errors import SourceError, UsageError, naming
from ..common.later import tomlkit
from ..common.outputs import NOTHING_ELSE, PLAN_HEAD, OutputKind, Replacing, write_output
from ..common.progress import Progress, silent
from ..common.settings import LARGEST, line_of
from ..common.units import shown_size
from ..families.choices import Bytes, Choices, given
from ..families.family import Earlier
from ..fetching.link import Link, lasting, place_of
from ..fetching.remote import Terms
from ..sources.opening import open_source
from ..sources.source import Source
from .plan import Plan

if TYPE_CHECKING:
    from tomlkit.items import Table

FORMAT = 3
_FORMATS = (1, 2, 3)
"""Of format 1 all choices are in [choices], whoever made them; of format 2 reasons are comments, which are not read."""


class SourcePart(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """[source]: what is built from."""

    path: str
    """A path, or a link without anything secret."""
    sha256: str = ""
    """That an image on a server is to have; '' where it is not known."""
    fingerprint: str = ""
    """Hash over names, sizes and times; '' to take the source as it is."""
    added: list[str] = []
    drivers: list[str] = []
    """Folders with driver packages for setup."""
    answer_file: str = ""
    further: list[str] = []
    """Sources whose volumes go onto the same drive."""


class DrivePart(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """[drive]: what it was planned for."""

    name: str = ""
    size: Bytes | None = None
    """Bytes; left out when an image file is to be as large as needed."""
    sector_size: int = 512


class PlanFile(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A plan file's contents."""

    format: int
    source: SourcePart
    drive: DrivePart = DrivePart()
    choices: Choices = Choices()
    decided: Choices = Choices()
    reasons: dict[str, str] = {}
    """Of what was decided, by the name of the choice."""


class SavedPlan(Struct, frozen=True):
    """A plan file as it was read."""

    source: SourcePart
    drive: DrivePart
    choices: Choices
    """What the technician chose and what the tool decided, together."""
    decided: dict[str, Earlier] = field(default_factory=dict)
    """The choices that the tool made, each with the reason that the file has."""


def save_plan(plan: Plan, path: Path, replacing: Replacing = NOTHING_ELSE) -> None:
    """Write `plan` to `path` as TOML; a plan of ours that is there is replaced. Raises ProtectError or DriveError."""
    document = tomlkit.document()
    for line in (
        f"{PLAN_HEAD.removeprefix('# ')} Edit it and build it with:  lucky-keystone build THIS-FILE --onto DRIVE",
        "[choices] is what was chosen, [decided] what the tool decided, each for its reason in [reasons].",
        "Remove a line of [decided] to let the tool decide it again.",
    ):
        document.add(tomlkit.comment(line))
    document.add("format", tomlkit.item(FORMAT))
    source = tomlkit.table()
    source.add("path", lasting(plan.source.path))
    if plan.source.sha256:
        source.add("sha256", plan.source.sha256)
    source.add("fingerprint", plan.source.fingerprint)
    if plan.source.added:
        source.add("added", [str(folder.resolve()) for folder in plan.source.added])
    if plan.source.drivers:
        source.add("drivers", [str(each.path.resolve()) for each in plan.source.drivers])
    if plan.source.answer_file is not None:
        source.add("answer_file", str(Path(plan.source.answer_file.name).resolve()))
    if plan.source.further:
        source.add("further", [lasting(other.path) for other in plan.source.further])
    document.add("source", source)
    drive = tomlkit.table()
    drive.add("name", plan.drive.name)
    drive.add("size", plan.drive.size)
    drive.add("sector_size", plan.drive.sector_size)
    document.add("drive", drive)
    choices, decided, reasons = _choice_tables(plan)
    document.add("choices", choices)
    document.add("decided", decided)
    document.add("reasons", reasons)
    for line in _comments(plan):
        document.add(tomlkit.comment(line))
    write_output(path, tomlkit.dumps(document).encode(), OutputKind.PLAN, replacing)


def _choice_tables(plan: Plan) -> tuple[Table, Table, Table]:
    """Return [choices], [decided] and [reasons]; each drive gets the identity of its own name unless one was chosen."""
    by_choice = {decision.choice: decision for decision in plan.decisions if decision.choice}
    choices, decided, reasons = tomlkit.table(), tomlkit.table(), tomlkit.table()
    for name, value in given(plan.choices).items():
        decision = by_choice.get(name)
        if decision is not None and decision.by == "you":
            choices.add(name, value)
        elif name != "identity":
            decided.add(name, value)
            if decision is not None:
                reasons.add(name, decision.reason)
    return choices, decided, reasons


def _comments(plan: Plan) -> list[str]:
    lines = ["", "Why:"]
    lines += [f"  {d.topic}: {d.value} ({d.reason})" for d in plan.decisions]
    lines += ["Layout:"]
    lines += [f"  {area.name}: {shown_size(area.size)} from byte {area.offset}" for area in plan.areas]
    lines += ["Where it starts:"]
    lines += [f"  {row.firmware}: {row.verdict} ({row.reason})" for row in plan.forecast]
    return lines


def read_plan(path: Path) -> SavedPlan:
    """Read a plan file. Raises UsageError naming line and key of what is wrong."""
    with naming(str(path), UsageError, advice="Check the path of the plan."), path.open("rb") as stream:
        data = stream.read(LARGEST + 1)
    if len(data) > LARGEST:
        raise UsageError(f"{path} is too large for a plan file.", advice="Name the plan file that 'plan' has saved.")
    try:
        text = data.decode("utf-8")
        values = tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # no text, no TOML, numbers or nesting beyond all measure
        raise UsageError(f"{path}: {error}.", advice="Correct the line in the plan file.") from error
    try:
        plan = msgspec.convert(values, PlanFile)
    except msgspec.ValidationError as error:
        message, _, place = str(error).partition(" - at `$.")
        key = place.rstrip("`")
        unknown = re.search(r"unknown field `(\w+)`", message)
        if unknown:
            key = f"{key}.{unknown.group(1)}".lstrip(".")
        line = line_of(text, key)
        where = f", line {line}" if line else ""
        raise UsageError(
            f"{path}{where}, {key or 'the file'}: {message}.", advice="Correct the key in the plan file."
        ) from error
    if plan.format not in _FORMATS:
        raise UsageError(
            f"{path}, line {line_of(text, 'format')}, format: {plan.format} is not known, only up to {FORMAT}.",
            advice="Plan again with this version.",
        )
    chosen, decided = given(plan.choices), given(plan.decided)
    together = Choices(**{**decided, **chosen})  # type: ignore[arg-type]
    made = {
        name: Earlier("plan", plan.reasons.get(name) or "as the plan has it") for name in decided if name not in chosen
    }
    return SavedPlan(plan.source, plan.drive, together, made)


def open_planned_source(
    plan: SavedPlan, path: Path, progress: Progress = silent, terms: Terms | None = None, link: Link | None = None
) -> Source:
    """Open the source a plan names, or the same under a fresh `link`.

    Raises SourceError when it is no longer the one that was planned.
    """
    terms = replace(terms or Terms(), sha256=(terms and terms.sha256) or plan.source.sha256)
    source = open_source(
        link or place_of(plan.source.path),
        map(Path, plan.source.added),
        progress,
        map(place_of, plan.source.further),
        terms=terms,
        drivers=map(Path, plan.source.drivers),
        answer_file=Path(plan.source.answer_file) if plan.source.answer_file else None,
    )
    if plan.source.fingerprint and plan.source.fingerprint != source.fingerprint:
        raise SourceError(
            f"{plan.source.path} is not the source that {path} was made for: names, sizes or times differ.",
            advice="Plan again, or remove the fingerprint from the plan to build from the source as it is now.",
        )
    return source
