"""What every JSON document begins with, and the lines of --progress json (kept apart: they need none of the core)."""

from __future__ import annotations

import json
from typing import Any, Literal

import msgspec

from .text import visible_json


class Document(msgspec.Struct, kw_only=True):
    """A document for programs. Its `schema` is raised by a change that breaks readers."""

    schema: Literal[1] = 1


class ProgressEvent(Document, kw_only=True):
    """A line of --progress json, on standard error."""

    event: Literal["progress"] = "progress"
    drive: str
    """Tag or file name where several drives are written; else empty."""
    stage: str
    done: int
    """Bytes."""
    total: int
    """Bytes; 0 or 1 for stages that move none."""
    rate: int
    """Bytes a second, over the last seconds; of a stage that has ended over all of it."""
    seconds_left: float | None
    """By the present rate; null while that cannot be known."""
    retries: int
    """Reads and writes of the drive that failed and worked when repeated."""
    ended: bool
    """True on the last line of a stage."""


def as_json(document: msgspec.Struct, *, indent: int | None = None) -> str:
    """Return a document as JSON, with nothing in its texts that could steer a terminal."""
    try:
        # Field by field, for their order: nothing is made twice of documents with 100,000 files.
        held = {name: getattr(document, name) for name in _in_order(document.__struct_fields__)}
        made = msgspec.json.encode(
            {name: value for name, value in held.items() if value is not msgspec.UNSET}, enc_hook=str
        )
        text = (msgspec.json.format(made, indent=indent) if indent else made).decode()
    except UnicodeEncodeError:  # a name of half a character: only the slower encoder lets it pass
        fields: dict[str, Any] = msgspec.to_builtins(document, str_keys=True, enc_hook=str)
        text = json.dumps({name: fields[name] for name in _in_order(tuple(fields))}, indent=indent, ensure_ascii=False)
    return visible_json(text)


def _in_order(names: tuple[str, ...]) -> list[str]:
    first = [name for name in ("schema", "command", "event") if name in names]
    return [*first, *(name for name in names if name not in first)]
