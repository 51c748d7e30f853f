"""The bay: a folder of simulated drives. `bay.toml` describes them, each is an image file beside it."""

from __future__ import annotations

import tomllib
from pathlib import Path

import msgspec

from ..errors import DriveError, ProtectError, UsageError, naming
from .drive import Drive, held_back

DESCRIPTION = "bay.toml"


class _Slot(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    file: str
    model: str
    serial: str
    bus: str = "USB"
    speed: str = ""
    sector_size: int = 512
    removable: bool = True
    internal: bool = False
    holds_system: bool = False
    read_only: bool = False
    mounts: list[str] = []


class _Bay(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    drive: list[_Slot]


def list_bay(folder: Path) -> tuple[Drive, ...]:
    """Return the drives of a bay in the order described. Raises UsageError for a description that cannot be read."""
    place = folder / DESCRIPTION
    with naming(str(place), UsageError, advice="A bay is a folder with a bay.toml; 'lucky-keystone demo' makes one."):
        text = place.read_text("utf-8")
    try:
        bay = msgspec.convert(tomllib.loads(text), _Bay)
    except (tomllib.TOMLDecodeError, msgspec.ValidationError, UnicodeDecodeError) as error:
        raise UsageError(f"{place}: {error}.", advice="Correct the description of the bay.") from error
    return tuple(_drive(folder, slot) for slot in bay.drive)


def _drive(folder: Path, slot: _Slot) -> Drive:
    path = folder / slot.file
    if Path(slot.file).name != slot.file:
        raise UsageError(f"{folder / DESCRIPTION}: '{slot.file}' lies outside the bay.", advice="Name a file in the bay's folder.")
    with naming(str(path), DriveError, advice="The bay names it, but it cannot be looked at."):
        size = path.stat().st_size
    return Drive(
        path=path,
        model=slot.model,
        serial=slot.serial,
        size=size,
        sector_size=slot.sector_size,
        bus=slot.bus,
        speed=slot.speed,
        removable=slot.removable,
        internal=slot.internal,
        holds_system=slot.holds_system,
        read_only=slot.read_only,
        mounts=tuple(slot.mounts),
    )


def find(folder: Path, tag: str) -> Drive | None:
    """Return the bay's drive with this tag (case ignored), None when there is none."""
    return next((drive for drive in list_bay(folder) if drive.tag == tag.upper()), None)


def confirm_unchanged(folder: Path, drive: Drive, needed: int) -> None:
    """List again and raise ProtectError unless `drive` is there just as it was, and not held back."""
    drives = list_bay(folder)
    now = next((other for other in drives if other.tag == drive.tag), None)
    if now != drive:
        raise ProtectError(f"Drive {drive.tag} is not as it was when it was listed.", advice="List the drives again.")
    reasons = held_back(drive, drives, needed)
    if reasons:
        raise ProtectError(
            f"Drive {drive.tag} ({drive.model}) is held back: it " + "; it ".join(reasons) + ".",
            advice="Choose a free drive: 'lucky-keystone drives' lists them.",
        )
