"""A build in few words: what it is made from, what it becomes, and where it will start. -v shows all of it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

from ..common.units import shown_size
from .manner import manner
from .show import VERDICT_STYLES, Column, console, facts, paragraph, show_offers, starts, styled, table

if TYPE_CHECKING:
    from rich.text import Text

    from ..doing.jobs import Pair
    from ..families.family import Decision
    from ..machine.outlook import MachineOutlook
    from ..planning.plan import Plan
    from ..sources.source import Source
    from ..starting.outlook import Outlook, Verdict

_ROUTINE = (
    *("method", "label", "partition", "cluster size", "identity", "manifest", "size"),
    *("generation", "base system", "boot files", "file system", "table", "firmware"),
    *("marks", "activation", "speed"),
)
"""Topics of decisions that nobody asks for before every build, as long as the tool made them."""
_NUMBER = re.compile(r"( \d+| \(\d+\))+$")
"""Behind the topic, where there are several of its kind."""
_IN_ONE_LINE = ("table", "file system", "firmware")
_ORDER: tuple[Verdict, ...] = ("starts", "not known", "will not start")


def show_brief(source: Source, pairs: Sequence[Pair], *, with_source: bool) -> None:
    """Print what is about to be built, and the drives that get it."""
    plan = pairs[0][1].plan
    rows = [("Source", _source(source))] if with_source else []
    rows += [*(("Drive", _drive(pair)) for pair in pairs), ("Becomes", _becomes(plan))]
    rows += [("With", f"{other.path}, {other.form}") for other in source.further]
    rows += [
        (decision.topic.capitalize(), f"{decision.value} ({decision.reason})")
        for decision in plan.decisions
        if not _is_said(decision, is_update=pairs[0][1].standing is not None)
    ]
    out = console()
    if not with_source:  # a question was answered in the line above
        out.print()
    facts(out, rows)
    out.print()


def show_verdicts(rows: Sequence[Outlook]) -> None:
    """Print where a drive starts, in one line, and a line with the reason for each firmware that will not start it."""
    from ..starting.outlook import without_repeats

    if manner().plain:  # a fact a line
        starts(console(), rows)
        return
    found = without_repeats(tuple(rows))
    lines: list[tuple[Text, str]] = []
    for verdict in _ORDER:
        mark = styled(verdict, VERDICT_STYLES[verdict])
        of_it = [row for row in found if row.verdict == verdict]
        if verdict == "starts" and of_it:
            lines.append((mark, "; ".join(row.firmware for row in of_it)))
        elif verdict == "will not start" and _is_for_macs(found):
            lines += [(mark, f"{row.firmware} ({row.reason})") for row in of_it if row.kind == "mac"]
            lines.append((mark, "PCs (it is a Mac's)"))
        else:
            lines += [(mark, f"{row.firmware} ({row.reason})") for row in of_it]
    table(console(), [Column(), Column(folds=True)], lines, spoken=lambda row: f"{row[0]}: {row[1]}")
    show_offers(rows)


def show_changed(forecast: Sequence[Outlook], found: Sequence[Outlook]) -> None:
    """Print the verdicts of a check that differ from the forecast."""
    foretold = {row.firmware: row.verdict for row in forecast}
    changed = [row for row in found if foretold.get(row.firmware) != row.verdict]
    if changed:
        paragraph(console(), "Where it starts differs from the plan:", style="warn", indent=2)
        show_verdicts(changed)


def show_brief_machines(outlooks: Sequence[MachineOutlook]) -> None:
    """Print a line for each machine that a drive is for."""
    marks = [styled(each.verdict, VERDICT_STYLES[each.verdict]) for each in outlooks]
    rows = [(mark, f"{each.machine} ({each.reason})") for mark, each in zip(marks, outlooks, strict=True)]
    table(console(), [Column(), Column(folds=True)], rows, spoken=lambda row: f"{row[0]}: {row[1]}")


def _is_said(decision: Decision, *, is_update: bool) -> bool:
    """Tell whether a decision is in the other rows, or not worth one."""
    topic = _NUMBER.sub("", decision.topic)
    is_kept = topic == "identity" and is_update  # an update leaves the drive its own
    is_routine = topic in _ROUTINE and (is_kept or decision.by in ("tool", "plan"))
    return decision.topic in (*_IN_ONE_LINE, "label") or topic == "source" or is_routine


def _is_for_macs(rows: Sequence[Outlook]) -> bool:
    able = {row.kind for row in rows if row.verdict != "will not start"}
    return able == {"mac"}


def _source(source: Source) -> str:
    from ..families.families import facts_of, shown_family

    found = facts_of(source)
    words = [shown_family(source), found.release, "/".join(found.architectures), ", ".join(found.languages)]
    size = shown_size(found.total_bytes)
    return f"{source.path.name}: {', '.join(word for word in (*words, size) if word)}"


def _drive(pair: Pair) -> str:
    chosen, wanted = pair
    size = shown_size(wanted.plan.drive.size or 0)
    return f"{chosen.name}, {chosen.drive.model}, {size}" if chosen.drive else f"{chosen.name}, an image file of {size}"


def _becomes(plan: Plan) -> str:
    values = {decision.topic: decision.value for decision in plan.decisions}
    words = [values[topic] for topic in _IN_ONE_LINE[:2] if topic in values] or [values.get("method", "")]
    label = f" '{plan.choices.label}'" if plan.choices.label else ""
    firmware = f", for {values['firmware']}" if "firmware" in values else ""
    return f"{', '.join(words)}{label}{firmware}"
