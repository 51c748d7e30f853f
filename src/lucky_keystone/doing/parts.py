"""The sources that a finished drive was built from, and whether a newer image of one is among the downloaded ones."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

from msgspec.structs import asdict

from ..common.errors import KeystoneError
from ..common.units import SECTOR_SIZES
from ..manifest.format import PartNote, read_manifest

if TYPE_CHECKING:
    from ..sources.source import Source


class DrivePart(PartNote, frozen=True, kw_only=True):
    """A source of a drive."""

    newer: str = ""
    """The name of a downloaded image of the same kind that is newer; '' where there is none."""


def parts_on(drive: Source) -> tuple[DrivePart, ...]:
    """Return the sources of a drive, or of an image of one, that was built from several; none of any other."""
    notes = _noted(drive)
    if not notes:
        return ()
    stored = list(_stored())
    return tuple(DrivePart(**asdict(note), newer=_newer(note, stored)) for note in notes)


def _noted(drive: Source) -> Sequence[PartNote]:
    if drive.image is None:
        return ()
    for sector_size in SECTOR_SIZES:
        with suppress(KeystoneError):
            manifest = read_manifest(drive.image, sector_size)
            if manifest is not None:
                return manifest.about.parts
    return ()


def _stored() -> Iterator[PartNote]:
    """Yield what is known of the downloaded images; what cannot be read is passed over."""
    from ..families.asking import build_of
    from ..families.families import facts_of, shown_family
    from ..fetching.store import Store
    from ..sources.opening import open_source

    with suppress(KeystoneError):
        for image in Store().images():
            with suppress(KeystoneError):
                source = open_source(image.path)
                facts = facts_of(source)
                yield PartNote(
                    image.about.name, shown_family(source), facts.release, build_of(facts), list(facts.architectures)
                )


def _newer(note: PartNote, stored: Sequence[PartNote]) -> str:
    alike = [each for each in stored if each.what == note.what and set(each.architectures) == set(note.architectures)]
    newest = max(alike, key=_age, default=note)
    return newest.name if _age(newest) > _age(note) else ""


def _age(note: PartNote) -> tuple[int, ...]:
    """Return what releases are ordered by: the numbers of the release, then those of the build."""
    return tuple(int(number) for number in re.findall(r"\d+", f"{note.release} {note.build}"))
