"""A source: what is built from, as it was given."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from ..tree import File, Folder


@dataclass(frozen=True, eq=False)
class Source:
    """What is built from. Facts about it are the families' to find."""

    path: Path
    form: str
    """How it was read."""
    label: str
    root: Folder
    """Its files; empty where it has none that are read."""
    added: tuple[Path, ...] = ()

    @cached_property
    def fingerprint(self) -> str:
        """32 hex digits over every path, size and time: tells whether a saved plan still meets the same source."""
        digest = hashlib.sha256()
        for path, entry in sorted(self.root.walk(), key=lambda item: item[0]):
            size = entry.size if isinstance(entry, File) else -1
            digest.update(f"{path}\0{size}\0{entry.modified.isoformat()}\n".encode("utf-8", "surrogatepass"))
        return digest.hexdigest()[:32]
