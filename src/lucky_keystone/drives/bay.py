"""The bay: a folder of simulated drives. `bay.toml` describes them, each is an image file beside it."""

from __future__ import annotations

import errno
import os
import stat
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Literal

import msgspec

from ..common.errors import DriveError, ProtectError, UsageError, naming
from ..common.later import tomlkit
from ..content.discs import DiscState, no_disc
from ..content.source_file import DEVICE_TRYING, SourceFile, Trying
from .drive import Drive, Hardware
from .faults import Faults, FaultyDrive
from .host import Handle, Span
from .image_file import ImageFile
from .medium import OpenMedium
from .optical import OpticalDrive

DESCRIPTION = "bay.toml"
_SECTOR = 2048


class _Slot(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    file: Annotated[str, msgspec.Meta(pattern=r"^[^\0/\\]+$")]
    model: str
    serial: str
    bus: str = "USB"
    speed: str = ""
    sector_size: Literal[512, 4096] = 512
    removable: bool = True
    internal: bool = False
    holds_system: bool = False
    read_only: bool = False
    mounts: list[str] = []
    faults: Faults | None = None


class _OpticalSlot(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    file: Annotated[str, msgspec.Meta(pattern=r"^[^\0/\\]+$")]
    """The disc, as an image; one that is not there: no disc."""
    model: str = "Simulated optical drive"
    faults: Faults | None = None


class _Bay(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    drive: list[_Slot] = []
    optical: list[_OpticalSlot] = []


class BayDisc(SourceFile):
    """A disc in an optical drive of a bay, read with the drive's faults."""

    def __init__(self, path: Path, faults: Faults | None) -> None:
        """Raises SourceError where there is no disc."""
        if not path.is_file():
            raise no_disc(path)
        super().__init__(path)
        self.is_device, self.trying = True, Trying(DEVICE_TRYING.tries, 0.0)
        self._faults = faults or Faults()
        self._medium = FaultyDrive(ImageFile(path), self._faults, name=str(path))

    def _read(self, descriptor: int, view: memoryview, offset: int) -> int:
        size = min(len(view), self.size - offset)
        bad = min((at for at, length in self._faults.fails_reading if at + length > offset), default=self.size)
        # As a system does it: what lies in front of a bad place comes first.
        size = min(size, bad - offset if bad > offset else _SECTOR)
        try:
            self._medium.readinto_at(offset, view[:size])
        except DriveError as error:
            raise OSError(errno.EIO, os.strerror(errno.EIO)) from error
        return size


class Bay:
    """A bay behind the seam that every host has: its drives are guarded, opened and released like real ones."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def drives(self) -> tuple[Drive, ...]:
        """Return the drives in the order described. Raises UsageError for a description that cannot be read."""
        return tuple(self._drive(slot) for slot in self._bay().drive)

    def optical_drives(self) -> tuple[OpticalDrive, ...]:
        found: list[OpticalDrive] = []
        for slot in self._bay().optical:
            path = self.folder / slot.file
            is_there = path.is_file()
            state = DiscState.DISC if is_there else DiscState.NONE
            found.append(OpticalDrive(path, slot.model, state, path.stat().st_size if is_there else 0))
        return tuple(found)

    def disc(self, path: Path) -> BayDisc | None:
        """Return what reads the disc at `path`, with its drive's faults; None where no optical drive has that path."""
        for slot in self._bay().optical:
            if (self.folder / slot.file).resolve() == path.resolve():
                return BayDisc(path, slot.faults)
        return None

    def disks_below(self, path: Path) -> frozenset[Path]:
        """A source is on a bay's drive when it is that drive's image file."""
        return frozenset(drive.path for drive in self.drives() if drive.path.resolve() == path.resolve())

    def open(self, drive: Drive, *, write: bool) -> Handle:
        faults = next((slot.faults for slot in self._bay().drive if self.folder / slot.file == drive.path), None)
        return BayDrive(self, drive, ImageFile(drive.path, write=write), faults)

    def unmount(self, drive: Drive) -> None:
        """Simulated volumes are mounted by their description; it is corrected, as a system would its list."""
        place = self.folder / DESCRIPTION
        with naming(str(place), DriveError, advice="The bay's description must be writable to unmount in it."):
            text = place.read_text("utf-8")
            place.write_text(_without_mounts(text, drive.path.name), "utf-8")

    def tell_of_table(self, handle: OpenMedium, partitions: Sequence[Span]) -> str:
        return ""

    def eject(self, drive: Drive) -> str:
        return "It is simulated: there is nothing to pull out."

    def _bay(self) -> _Bay:
        place = self.folder / DESCRIPTION
        with naming(
            str(place), UsageError, advice="A bay is a folder with a bay.toml; 'lucky-keystone demo' makes one."
        ):
            data = place.read_bytes()
        try:
            return msgspec.convert(tomllib.loads(data.decode("utf-8")), _Bay)
        except (tomllib.TOMLDecodeError, msgspec.ValidationError, ValueError, RecursionError) as error:
            raise UsageError(f"{place}: {error}.", advice="Correct the description of the bay.") from error

    def _drive(self, slot: _Slot) -> Drive:
        path = self.folder / slot.file
        if Path(slot.file).name != slot.file:
            raise UsageError(
                f"{self.folder / DESCRIPTION}: '{slot.file}' lies outside the bay.",
                advice="Name a file in the bay's folder.",
            )
        with naming(str(path), DriveError, advice="The bay names it, but it cannot be looked at."):
            facts = path.lstat()
        if not stat.S_ISREG(facts.st_mode):
            raise UsageError(
                f"{path} is a link, or no file at all: a bay's drives are files in its own folder.",
                advice=f"Put a file there, or take the drive out of {DESCRIPTION}.",
            )
        size = facts.st_size
        answer = {
            name: getattr(slot, name)
            for name in ("model", "serial", "sector_size", "bus", "speed", "removable", "internal")
        }
        return Drive(
            path=path,
            size=size,
            holds_system=slot.holds_system,
            read_only=slot.read_only,
            mounts=tuple(slot.mounts),
            **answer,
        )


class BayDrive:
    """An opened drive of a bay, with its faults."""

    def __init__(self, bay: Bay, drive: Drive, file: ImageFile, faults: Faults | None) -> None:
        self._bay, self._file = bay, file
        self._medium: OpenMedium = FaultyDrive(file, faults, name=f"{drive.tag} ({drive.model})") if faults else file
        self.size = file.size

    def readinto_at(self, offset: int, view: memoryview) -> None:
        self._medium.readinto_at(offset, view)

    def read_at(self, offset: int, size: int) -> bytes:
        return self._medium.read_at(offset, size)

    def write_at(self, offset: int, data: memoryview) -> None:
        self._medium.write_at(offset, data)

    def write_zeros(self, offset: int, size: int) -> None:
        self._medium.write_zeros(offset, size)

    def flush(self) -> None:
        self._medium.flush()

    def forget_cache(self) -> None:
        self._medium.forget_cache()

    def close(self) -> None:
        self._medium.close()

    def identity(self) -> Hardware:
        """Look up the description of the very file that is open."""
        for drive in self._bay.drives():
            with naming(str(drive.path), DriveError):
                if os.path.samestat(drive.path.stat(), self._file.stat()):
                    return drive.identity
        raise ProtectError(f"{self._file.path} is no longer in the bay.", advice="List the drives again.")


def _without_mounts(text: str, file: str) -> str:
    """Return the description with the mounts of one drive emptied, everything else as it was written."""
    document = tomlkit.parse(text)
    for slot in document["drive"]:
        if slot["file"] == file:
            slot["mounts"] = []
    return tomlkit.dumps(document)
