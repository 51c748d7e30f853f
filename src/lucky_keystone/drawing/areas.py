"""Areas of a drive, for people: what the layout lists and the figure draws."""

from __future__ import annotations

from enum import StrEnum

from msgspec import Struct


class Part(StrEnum):
    """What an area is, whichever volume it belongs to: layout and figure choose words and colours by it."""

    SEAL = "seal"
    GPT = "GPT"
    MANIFEST = "manifest"
    GAP = "alignment gap"
    BOOT = "boot sectors"
    FATS = "FATs"
    FILE_TABLE = "MFT"
    LOG = "log file"
    CLUSTER_MAP = "allocation bitmap"
    FOLDERS = "folders"
    FILES = "files"
    VOLUME = "volume"
    IMAGE = "image"
    FREE = "free"
    UNUSED = "unused"


class Area(Struct, frozen=True):
    """A stretch of the drive: offset and size in bytes."""

    part: Part
    offset: int
    size: int
    note: str = ""
    title: str = ""
    """What it is called where the part's own name is too general."""

    @property
    def name(self) -> str:
        return self.title or self.part.value


class DrawnBlock(Struct, frozen=True):
    """A stretch of the drive. Bytes."""

    number: str
    """What is beside it: a digit for a partition, a letter for a part of the beginning, '' for the rest."""
    kind: str
    """'FAT32' and so on, 'image'; '' for what is not a volume."""
    name: str
    start: int
    size: int
    used: int
    """Of its bytes those that are taken, from its start."""
    note: str
