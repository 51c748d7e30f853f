"""The JSON documents of what a shop keeps and does at large: machines, presets, batches, its record."""

from __future__ import annotations

from typing import Literal

import msgspec

from ..families.choices import Choices
from ..machine.databases import DatabaseSummary
from ..machine.facts import MachineFacts
from ..machine.requirements import Requirement
from ..shop.log import LogEntry
from ..shop.trends import Trend
from .events import Document


class MachineDocument(Document, kw_only=True):
    """`machine`."""

    command: Literal["machine"] = "machine"
    facts: MachineFacts
    """What is not known is left out."""
    databases: dict[str, DatabaseSummary]
    """What its Secure Boot allows (db) and refuses (dbx), where they can be read."""
    unknown: list[str]
    """What could not be read here, and what helps."""
    requirements: list[Requirement]
    """With --for: what the release asks for."""
    saved: str | None


class PresetBody(msgspec.Struct, kw_only=True):
    """A shop's defaults under one name."""

    name: str
    about: str
    choices: Choices
    machines: list[str]
    """Files of machines."""
    trust: list[str]
    revoked: list[str]


class PresetsDocument(Document, kw_only=True):
    """`presets`."""

    command: Literal["presets"] = "presets"
    file: str
    presets: list[PresetBody]


class DataBody(msgspec.Struct, kw_only=True):
    """A kind of data that the program keeps."""

    what: str
    place: str
    files: int
    size: int
    """Bytes."""
    why_kept: str
    """Why --remove leaves it; '' where it goes."""


class DataDocument(Document, kw_only=True):
    """`data`."""

    command: Literal["data"] = "data"
    data: list[DataBody]
    removed: list[str]
    """Files that were deleted."""


class LogDocument(Document, kw_only=True):
    """`log`."""

    command: Literal["log"] = "log"
    file: str | None
    """The record's file; null when it is switched off."""
    entries: list[LogEntry]
    trends: tuple[Trend, ...]
    """What gets worse, of the drives that --drive names, else of all."""


class LogPruneDocument(Document, kw_only=True):
    """`log --prune`."""

    command: Literal["log"] = "log"
    before: str
    """The moment, UTC."""
    entries_removed: int
    journals_removed: list[str]


class BatchRowBody(msgspec.Struct, kw_only=True):
    """The result of a row of a batch."""

    line: int
    """Of the CSV file, from 1."""
    drive: str
    model: str
    serial: str
    source: str
    """As the row names it, or the one of all rows."""
    preset: str
    label: str
    result: Literal["done", "already built", "faults", "failed", "refused", "interrupted"]
    exit_code: int
    """What the program would end with were this its only drive."""
    bytes_written: int
    seconds: float
    message: str
    advice: str


class BatchDocument(Document, kw_only=True):
    """`build --batch`."""

    command: Literal["build"] = "build"
    batch: str
    """The CSV file."""
    report: str | None
    """The file that was written with --batch-report."""
    rows: list[BatchRowBody]
