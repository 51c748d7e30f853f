"""A file as its records tell it, and its streams put together."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from ..volume import Run, VolumeError
from .parse import ParsedAttribute
from .records import DATA, RECORD_IS_FOLDER


class Stream(Struct):
    """A stream, put together from all records that tell of it."""

    name: str
    size: int
    valid: int
    runs: tuple[Run, ...]
    value: bytes | None
    is_plain: bool


class FileRecords(Struct):
    """A file as its records tell it."""

    number: int
    header_flags: int
    sequence: int
    attributes: tuple[ParsedAttribute, ...]
    """Of all its records; parts of one stream in the order of their clusters."""

    def of(self, kind: int, name: str = "") -> Iterator[ParsedAttribute]:
        """Yield the attributes of this type and name."""
        return (attribute for attribute in self.attributes if attribute.type == kind and attribute.name == name)

    @property
    def is_folder(self) -> bool:
        """True when it has an index of names."""
        return bool(self.header_flags & RECORD_IS_FOLDER)

    def stream(self, name: str = "", kind: int = DATA) -> Stream | None:
        """Return a stream. Raises VolumeError when its parts leave a gap."""
        parts = sorted(self.of(kind, name), key=lambda part: part.lowest_vcn)
        if not parts:
            return None
        first = parts[0]
        runs: list[Run] = []
        at = 0
        for part in parts:
            if part.lowest_vcn != at:
                raise VolumeError(f"FileRecords record {self.number}: stream '{name}' has nothing for cluster {at}.")
            runs += part.runs
            at += sum(run.count for run in part.runs)
        return Stream(name, first.size, first.valid, tuple(runs), first.value, first.is_plain)
