"""TOML files that people write by hand: read whole, and what is wrong in them named by its line."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Collection
from pathlib import Path
from typing import Any

from .errors import UsageError, naming
from .nearest import did_you_mean

LARGEST = 1 << 20
"""Bytes: what people write by hand is far smaller."""


def read_settings(path: Path, what: str, kind: str, version: int, advice: str) -> tuple[str, dict[str, Any]]:
    """Return the text of a file that is to be `what` ('a machine's file'), and its values without the first one.

    Its first key, `kind`, has the version of the format. Raises UsageError for others; `advice` says what to do.
    """
    with naming(str(path), UsageError, advice=advice), path.open("rb") as stream:
        data = stream.read(LARGEST + 1)
    if len(data) > LARGEST:
        raise UsageError(f"{path} is too large to be {what}.", advice="Name another file.")
    try:
        text = data.decode("utf-8")
        values: dict[str, Any] = tomllib.loads(text)
    except (UnicodeDecodeError, tomllib.TOMLDecodeError, RecursionError) as error:
        raise UsageError(f"{path} is not TOML: {error}.", advice=advice) from error
    if values.pop(kind, None) != version:
        raise UsageError(f"{path}: '{kind} = {version}' is missing.", advice=advice)
    return text, values


def line_of(text: str, key: str) -> int:
    """Return the line (from 1) of a dotted key in plain TOML, or of its table; 0 when neither is there."""
    table, _, name = key.rpartition(".")
    current, table_line = "", 0
    for number, line in enumerate(text.splitlines(), 1):
        if header := re.match(r"\s*\[([^\]\[]+)\]", line):
            current = header.group(1).strip().replace('"', "")
            if current == key:
                return number
            table_line = number if current == table else table_line
        elif current == table and re.match(rf'\s*"?{re.escape(name)}"?\s*[=.]', line):
            return number
    return table_line


def unknown_key(path: Path, text: str, key: str, known: Collection[str], otherwise: str) -> UsageError:
    """Return the error for an unknown dotted key; `otherwise` is its advice where no known key is similar."""
    name = key.rpartition(".")[2]
    where = f", line {line}" if (line := line_of(text, key)) else ""
    return UsageError(f"{path}{where}: there is no key '{name}'.", advice=did_you_mean(name, known) or otherwise)
