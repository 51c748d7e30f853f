"""A batch: many drives from a CSV file, a row each (docs/formats.md)."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TypeVar

from msgspec import Struct

from ..common.errors import UsageError, naming
from ..common.nearest import did_you_mean
from ..families.choices import Choices

_PACKED = (b"PK\x03\x04", b"\xd0\xcf\x11\xe0")  # what spreadsheet programs save by themselves
_LARGEST = 1 << 20
_MOST = 1000
"""Rows."""
COLUMNS = ("drive", "source", "plan", "preset", "label", "size", "machine")
_T = TypeVar("_T")


class BatchRow(Struct, frozen=True, kw_only=True):
    """One drive that is to be built. '': not said."""

    line: int
    """Of the file, from 1."""
    drive: str
    """A tag, a device, or an image file."""
    source: str = ""
    plan: str = ""
    preset: str = ""
    label: str = ""
    size: str = ""
    """Of an image file to be made."""
    machine: str = ""
    """Files of machines, one or several with ';' in between."""


def read_batch(path: Path) -> tuple[BatchRow, ...]:
    """Read a batch. Raises UsageError naming the line and column that are wrong."""
    with naming(str(path), UsageError, advice="Name a CSV file with a row for each drive: --batch FILE."):
        data = path.read_bytes()[: _LARGEST + 1]
    if len(data) > _LARGEST:
        raise UsageError(f"{path} is too large to be a batch.", advice="Divide it.")
    if data.startswith(_PACKED):
        raise UsageError(f"{path} is a spreadsheet, and no CSV file.", advice="Save its sheet as CSV, in UTF-8.")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise UsageError(
            f"{path} is not UTF-8 text (byte {error.start:,}).", advice="Save it as CSV in UTF-8."
        ) from error
    heading = text.partition("\n")[0]
    separator = ";" if heading.count(";") > heading.count(",") else ","
    try:
        table = csv.reader(io.StringIO(text, newline=""), delimiter=separator, strict=True)
        rows = [(table.line_num, [cell.strip() for cell in cells]) for cells in table]
    except csv.Error as error:
        raise UsageError(f"{path} is not valid CSV: {error}.", advice="Correct it, or save it again.") from error
    rows = [(line, cells) for line, cells in rows if any(cells) and not cells[0].startswith("#")]
    if not rows:
        raise UsageError(f"{path} is empty.", advice=f"Its first line names columns: {', '.join(COLUMNS)}.")
    return _rows(path, rows)


def _rows(path: Path, rows: Sequence[tuple[int, list[str]]]) -> tuple[BatchRow, ...]:
    (first, names), *rest = rows
    names = [name.lower() for name in names]
    _refuse_columns(path, first, names)
    if not rest or len(rest) > _MOST:
        raise UsageError(f"{path} has {len(rest):,} rows.", advice=f"Give it a row for each drive, {_MOST:,} at most.")
    return tuple(_row(f"{path}, line {line}", line, names, cells) for line, cells in rest)


def _refuse_columns(path: Path, line: int, names: Sequence[str]) -> None:
    if not set(names) & set(COLUMNS):
        raise UsageError(
            f"{path}, line {line}: no heading of a column is there.",
            advice=f"Begin the file with a line of them: {', '.join(COLUMNS)}.",
        )
    for name in names:
        if name not in COLUMNS:
            advice = did_you_mean(name, COLUMNS) or f"Known are: {', '.join(COLUMNS)}."
            raise UsageError(f"{path}, line {line}: there is no column '{name}'.", advice=advice)
        if names.count(name) > 1:
            raise UsageError(f"{path}, line {line}: the column '{name}' is there twice.", advice="Remove one.")
    if "drive" not in names:
        raise UsageError(f"{path}, line {line}: there is no column 'drive'.", advice="Name the drive of each row.")


def _row(where: str, line: int, names: Sequence[str], cells: Sequence[str]) -> BatchRow:
    """Return one row; `where` says which in errors."""
    if len(cells) != len(names):
        raise UsageError(f"{where} has {len(cells)} cells, the heading {len(names)}.", advice="Correct the row.")
    row = BatchRow(line=line, **dict(zip(names, cells, strict=True)))
    if not row.drive:
        raise UsageError(f"{where}: 'drive' is empty.", advice="Name the drive: a tag, a device or an image file.")
    if row.source and row.plan:
        raise UsageError(f"{where} has both a source and a plan.", advice="Leave one empty.")
    beside = [name for name in ("preset", "label") if row.plan and getattr(row, name)]
    if beside:
        raise UsageError(f"{where}: a plan has its {beside[0]} already.", advice=f"Leave '{beside[0]}' empty.")
    return row


def in_passes(items: Iterable[_T], key: Callable[[_T], tuple[object, Choices]]) -> list[list[_T]]:
    """Put together what can be written in one pass over a source; `key` gives the source, and a plan's choices.

    Label, identity and dimensions differ from drive to drive; whatever else differs may change the bytes of files.
    """
    passes: dict[object, list[_T]] = {}
    for item in items:
        source, choices = key(item)
        shared = tuple(
            getattr(choices, name)
            for name in Choices.__struct_fields__
            if name not in ("identity", "label", "cluster", "use")
        )
        passes.setdefault((source, shared), []).append(item)
    return list(passes.values())
