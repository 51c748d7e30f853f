"""What the technician may choose, the same for planning and building. None means: decide, and say why."""

from __future__ import annotations

from typing import Annotated

import msgspec

from ..common.errors import UsageError
from ..common.nearest import did_you_mean
from ..common.units import SECTOR_SIZES
from ..starting.generations import GENERATIONS
from ..tables.styles import STYLES
from ..volumes.kinds import COMPOSED

Bytes = Annotated[int, msgspec.Meta(ge=0, le=(1 << 63) - 1)]


class Choices(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Choices as given. Sizes in bytes."""

    table: str | None = None
    firmware: str | None = None
    file_system: str | None = None
    label: str | None = None
    cluster: Bytes | None = None
    part_size: Bytes | None = None
    use: str | None = None
    identity: str | None = None
    purpose: str | None = None
    edition: str | None = None
    internal_disks: str | None = None
    """Of a system that runs from the drive: whether it uses the disks of the machine that it is started on."""
    waive: str | None = None
    loader_signing: str | None = None
    """Generation of certificates that the loaders are to be signed under."""
    ask_edition: bool | None = None
    """True: setup asks which edition to install."""
    as_is: bool | None = None
    """True: a source that is known to be incomplete is built all the same."""


CHOICE_NAMES = Choices.__struct_fields__
_KNOWN = {
    "table": tuple(STYLES),
    "firmware": ("bios", "uefi", "both"),
    "file_system": ("fat32", "ntfs", "fat32+ntfs"),
    "purpose": ("install", "portable"),
    "internal_disks": ("offline", "online"),
    "use": ("whole", "needed"),
    "loader_signing": tuple(generation.name for generation in GENERATIONS),
}
_OF_PORTABLE = {
    "edition": "Leave it out: setup asks which edition to install. With --purpose portable it says which one to apply.",
    "internal_disks": "Leave it out: it says what a system does that runs from the drive (--purpose portable).",
}


def check_choices(choices: Choices, sector_size: int) -> None:
    """Raise UsageError for a value that is none, or that only another purpose has.

    Whether values go together is the family's to say.
    """
    for name, known in _KNOWN.items():
        value = getattr(choices, name)
        if value is not None and value not in known:
            listed = ", ".join(known)
            if name == "file_system" and (kind := COMPOSED.get(value)) is not None and not kind.firmware_reads:
                raise UsageError(
                    f"No installer is put on {kind.shown} by choice: firmware of PCs does not read it.",
                    advice=f"Choose one of: {listed}.",
                )
            raise UsageError(
                f"{option(name)} {value} is not one of: {listed}.",
                advice=did_you_mean(value, known) or f"Choose one of: {listed}.",
            )
    for name, instead in _OF_PORTABLE.items():
        value = getattr(choices, name)
        if value is not None and choices.purpose != "portable":
            raise UsageError(f"{option(name)} {value} goes with --purpose portable.", advice=instead)
    if sector_size not in SECTOR_SIZES:
        raise UsageError(f"Sectors of {sector_size} bytes are not supported.", advice="Choose 512 or 4096.")


def given(choices: Choices) -> dict[str, str | int]:
    """Return the choices that were made, by name."""
    values = {name: getattr(choices, name) for name in CHOICE_NAMES}
    return {name: value for name, value in values.items() if value is not None and value is not False}


def option(name: str) -> str:
    """Return a choice's name as it is typed."""
    return "--" + name.replace("_", "-")
