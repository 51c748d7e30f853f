"""What is wrong with a table: a code for programs, and words."""

from __future__ import annotations

from msgspec import Struct


class TableFault(Struct, frozen=True):
    """One thing that is wrong."""

    code: str
    """As in docs/findings.md: mbr.range, gpt.backup and so on."""
    text: str
    partition: int | None = None
    """Number of the partition it is about."""

    def __str__(self) -> str:
        return self.text
