"""A planned drive as text: what the figure draws, for a terminal."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ..common.units import shown_size
from .manner import manner
from .show import Column, heading, table

if TYPE_CHECKING:
    from rich.console import Console

    from ..drawing.areas import DrawnBlock
    from ..planning.sketch import Sketch

_WIDEST = 96
"""Columns of a bar."""


def show_sketch(out: Console, what: Sketch) -> None:
    """Print the drive as bars to scale, with a row for each partition and each part of the beginning."""
    heading(out, "The whole drive, to scale")
    _bar(out, what.blocks, what.size)
    table(
        out,
        [Column(), Column(folds=True), Column("Size", right=True), Column("Free", right=True), Column(folds=True)],
        [
            (
                block.number or "-",
                block.name,
                shown_size(block.size),
                shown_size(block.size - block.used) if block.used and block.used < block.size else "",
                block.note,
            )
            for block in what.blocks
        ],
        spoken=_speak_block,
    )
    if not what.beginning:
        return
    heading(out, f"Its beginning, enlarged: the first {shown_size(what.beginning_size)}")
    _bar(out, what.beginning, what.beginning_size)
    table(
        out,
        [Column(), Column(), Column("Size", right=True), Column(folds=True)],
        [(block.number, block.name, shown_size(block.size), block.note) for block in what.beginning],
        spoken=lambda row: f"{row[1]}: {row[2]}; {row[3]}",
    )


def bar(blocks: Sequence[DrawnBlock], size: int, width: int) -> str:
    """Return a line of `width` characters: a block's number where it has data, dots where it is free, spaces outside.

    What is too narrow to be seen gets one character, as long as there are as many characters as blocks.
    """
    line = [" "] * width
    numbered = [block for block in blocks if block.number][:width]
    reached = 0
    for position, block in enumerate(numbered, 1):
        most = width - len(numbered) + position  # each of those behind needs a character
        left = max(reached, min(block.start * width // size, most - 1))
        right = min(max((block.start + block.size) * width // size, left + 1), most)
        taken = min(max((block.start + block.used) * width // size, left + 1), right)
        line[left:right] = [block.number[-1]] * (taken - left) + ["."] * (right - taken)
        reached = right
    return "".join(line)


def _bar(out: Console, blocks: Sequence[DrawnBlock], size: int) -> None:
    if not manner().plain:
        out.print(f"  [{bar(blocks, size, min(out.width, _WIDEST) - 4)}]")


def _speak_block(row: Sequence[str]) -> str:
    number, name, size, free, note = row
    which = f"partition {number}, " if number.isdecimal() else ""
    return f"{which}{name}: {size}{f', {free} free' if free else ''}{f'; {note}' if note else ''}"
