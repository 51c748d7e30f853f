"""How things are shown: headings, facts and tables that fit the terminal, one fact a line on demand, JSON documents."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, TextIO

from msgspec import Struct

from .manner import colour_system, has_colour, manner
from .streams import is_terminal
from .text import visible

if TYPE_CHECKING:
    import msgspec
    from rich.console import Console
    from rich.text import Text

    from ..starting.outlook import Outlook

    Cell = str | Text

_UNFOLDED = 1_000_000
"""Columns without a terminal: every row stays one line."""
_NARROWEST = 60
_LEAST_FOLDED = 24
"""Columns that folding text needs at least; with less, rows are stacked."""
_GAP = 2
_VERDICTS = ("good", "bad", "warn")
_A_VERDICT = 40
"""Characters: what is longer is a sentence, which must not stand on a bar of colour."""
VERDICT_STYLES = {"starts": "good", "will not start": "bad", "not known": "warn"}


def console(*, err: bool = False) -> Console:
    """A console for text: folding only on a terminal, markup never read from outside texts."""
    from rich.console import ConsoleDimensions

    from .safe_console import THEME, SafeConsole

    stream = sys.stderr if err else sys.stdout
    colour = has_colour(stream)
    made = SafeConsole(
        stderr=err,
        theme=THEME,
        color_system=colour_system() if colour else "auto",
        markup=False,
        highlight=False,
        force_terminal=colour or None,
        no_color=not colour,
        # Only a console of old Windows needs calls of its own for colours.
        legacy_windows=None if is_terminal(stream) else False,
        soft_wrap=False,
    )
    columns, rows = _size(stream)
    folds = is_terminal(stream) and not manner().plain
    made.size = ConsoleDimensions(max(columns, _NARROWEST) if folds else _UNFOLDED, rows)
    return made


def _size(stream: TextIO) -> tuple[int, int]:
    """Return a terminal's columns and rows, also of one that can do nothing else."""
    try:
        columns, rows = os.get_terminal_size(stream.fileno())
    except (OSError, ValueError):
        columns, rows = 0, 0
    given = os.environ.get("COLUMNS", "")
    if given.isdecimal():
        columns = int(given)
    return columns or 80, rows or 25


def emit_json(document: msgspec.Struct) -> None:
    """Print one JSON document."""
    from .events import as_json

    print(as_json(document, indent=2))


def styled(words: str, style: str = "") -> Text:
    """Return words in a style."""
    from rich.text import Text  # loaded where something is drawn: completion and help draw nothing

    return Text(words, style)


def assembled(*parts: Text | str | tuple[str, str]) -> Text:
    """Return parts, each with its style, one after the other."""
    from rich.text import Text

    return Text.assemble(*parts)


def heading(out: Console, text: str) -> None:
    """Print a section's heading."""
    out.print()
    out.print(styled(text, "bold underline"))


def paragraph(out: Console, text: Cell, *, style: str = "", indent: int = 0, hanging: int | None = None) -> None:
    """Print text folded within its indentation; further lines begin at `hanging`, else where the first does."""
    words = text if not isinstance(text, str) else styled(visible(text))
    words.plain = visible(words.plain)
    words.stylize("bold" if style in _VERDICTS and len(words) > _A_VERDICT else style)
    deeper = indent if hanging is None else hanging
    first, *more = _folded(out, words, out.width - indent)
    out.print(assembled(" " * indent, first))
    if more:
        rest = words[len(first) :]
        spaces = len(rest.plain) - len(rest.plain.lstrip())
        for line in _folded(out, rest[spaces:], out.width - deeper):
            out.print(assembled(" " * deeper, line))


def marked(mark: str, style: str, words: str, width: int = 7) -> Text:
    """Return a line that begins with a mark in its style, and the words in their column."""
    return assembled((mark, style), " " * (width - len(mark)), words)


def facts(out: Console, rows: Sequence[tuple[str, str]]) -> None:
    """Print names and values in two columns."""
    width = max(len(name) for name, _ in rows)
    for name, value in rows:
        if manner().plain:
            out.print(f"{name}: {value}")
        else:
            paragraph(out, assembled((name.ljust(width + _GAP), "name"), value), indent=2, hanging=2 + width + _GAP)


class Column(Struct, frozen=True):
    """A column of a table. One that `folds` takes what width is left; one without words in it is not shown.

    Where rows are stacked, numbers and what is `named` keep their heading.
    """

    head: str = ""
    right: bool = False
    folds: bool = False
    style: str = ""
    named: bool = False


def table(
    out: Console,
    columns: Sequence[Column],
    rows: Sequence[Sequence[Cell]],
    *,
    spoken: Callable[[Sequence[str]], str] | None = None,
) -> None:
    """Print rows: in columns where they fit the terminal, else one below the other; with --plain a line for each row.

    `spoken` makes that line; without it each value follows its column's heading.
    """
    cells = [[_text(cell, column.style) for cell, column in zip(row, columns, strict=True)] for row in rows]
    if manner().plain:
        for row in cells:
            out.print((spoken or _speaker(columns))([cell.plain for cell in row]))
        return
    used = [number for number in range(len(columns)) if any(row[number].plain for row in cells)]
    if used:
        _print_table(out, columns, cells, used)


def _print_table(out: Console, columns: Sequence[Column], cells: Sequence[Sequence[Text]], used: Sequence[int]) -> None:
    """Print the columns that are `used`: side by side where they fit, else one below the other."""
    natural = {number: _natural(columns[number], [row[number] for row in cells]) for number in used}
    widths = _fitted(natural, {n for n in used if columns[n].folds}, out.width - 2)
    if widths is None:
        for row in cells:
            _stack(out, columns, row, used)
        return
    if any(columns[number].head for number in used):
        heads = {number: styled(columns[number].head, "name") for number in used}
        _print_row(out, columns, heads, widths)
    for row in cells:
        _print_row(out, columns, {number: row[number] for number in used}, widths)


def starts(out: Console, rows: Sequence[Outlook]) -> None:
    """Print the forecast or what a drive starts on."""
    from ..starting.outlook import without_repeats

    table(
        out,
        [Column(), Column(), Column(folds=True, style="quiet")],
        [
            (styled(row.verdict, VERDICT_STYLES[row.verdict]), row.firmware, row.reason)
            for row in without_repeats(tuple(rows))
        ],
        spoken=lambda row: f"{row[1]}: {row[0]}; {row[2]}",
    )
    show_offers(rows)


def show_offers(rows: Sequence[Outlook]) -> None:
    """Print what machines list on their screens: a line for those that list the same."""
    by_list: dict[tuple[str, ...], list[str]] = {}
    for row in rows:
        if row.offers and not row.refines:
            machines = by_list.setdefault(row.offers, [])
            name = "Macs" if row.kind == "mac" else row.firmware
            machines += [name] if name not in machines else []
    for offers, firmware in by_list.items():
        paragraph(console(), f"On the screen of {', '.join(firmware)}: {'; '.join(offers)}.", indent=2, hanging=4)


def _text(cell: Cell, style: str) -> Text:
    made = cell.copy() if not isinstance(cell, str) else styled(cell, style)
    made.plain = visible(made.plain)
    return made


def _speaker(columns: Sequence[Column]) -> Callable[[Sequence[str]], str]:
    def speak(row: Sequence[str]) -> str:
        named = [(column.head, cell) for column, cell in zip(columns, row, strict=True) if cell]
        return "; ".join(f"{head}: {cell}" if head else cell for head, cell in named)

    return speak


def _natural(column: Column, cells: Sequence[Text]) -> int:
    return max([len(column.head), *(cell.cell_len for cell in cells)])


def _fitted(natural: dict[int, int], folding: set[int], room: int) -> dict[int, int] | None:
    """Return the width of each column, those that fold sharing what is left; None where they do not fit."""
    gaps = _GAP * (len(natural) - 1)
    if sum(natural.values()) + gaps <= room:
        return natural
    left = room - gaps - sum(width for number, width in natural.items() if number not in folding)
    wanted = sorted((natural[number], number) for number in folding)
    widths = dict(natural)
    for position, (width, number) in enumerate(wanted):
        share = left // (len(wanted) - position)
        widths[number] = min(width, share)
        if widths[number] < min(width, _LEAST_FOLDED):
            return None
        left -= widths[number]
    return widths if folding else None


def _print_row(out: Console, columns: Sequence[Column], row: dict[int, Text], widths: dict[int, int]) -> None:
    folded = {number: _folded(out, cell, widths[number]) for number, cell in row.items()}
    for line in range(max(len(lines) for lines in folded.values())):
        made = styled("  ")
        for number, lines in folded.items():
            part = lines[line] if line < len(lines) else styled("")
            space = " " * (widths[number] - part.cell_len)
            made.append_text(assembled(space, part) if columns[number].right else assembled(part, space))
            made.append(" " * _GAP)
        made.rstrip()
        out.print(made, no_wrap=True, overflow="ignore", crop=False)


def _stack(out: Console, columns: Sequence[Column], row: Sequence[Text], used: Sequence[int]) -> None:
    """Print a row that does not fit: its last text that folds below the rest, with headings in front of values."""
    last = max((number for number in used if columns[number].folds), default=None)
    first = [
        assembled((_stacked_head(columns[number]), "name"), row[number])
        for number in used
        if number != last and row[number].plain
    ]
    paragraph(out, styled("  ").join(first), indent=2, hanging=4)
    if last is not None and row[last].plain:
        paragraph(out, row[last], indent=6)


def _stacked_head(column: Column) -> str:
    return f"{column.head.lower()} " if column.head and (column.right or column.named) else ""


def _folded(out: Console, text: Text, width: int) -> list[Text]:
    if text.cell_len <= width:
        return [text]
    return [_stripped(line) for line in text.wrap(out, max(width, 8), overflow="fold")]


def _stripped(line: Text) -> Text:
    line.rstrip()
    return line
