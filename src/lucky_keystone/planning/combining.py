"""Combines the wishes of several sources into one drive: volumes behind each other, under one table for all."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
from msgspec.structs import replace

from ..common.errors import UsageError
from ..families.choices import FIELDS, Choices
from ..families.families import family_for, known_family
from ..families.family import Decision, DriveShape, DriveWish, Family, VolumeWish
from ..sources.source import Source
from ..starting.bootable import BootVolume, JoinedDrive
from ..tables.partition import Use
from ..tables.styles import STYLES

_OWN = tuple(name for name, choice in FIELDS.items() if not choice.is_shared)
"""Choices that are the first source's alone."""
_PREFERRED = ("gpt", "mbr")
_SAID_ONCE = ("table", "identity")


def wish_of(source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
    """Return what a source wishes of a drive, together with the further ones on it. Raises as `combined` does."""
    family = family_for(source, choices)
    if source.further:
        source = family.joined(source)
    if source.further:
        return combined(source, choices, drive)
    return _wish(family, source, choices, drive)


def _wish(family: Family, source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
    family.takes.refuse_others(choices)
    return family.wish(source, choices, drive)


def combined(source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
    """Return one wish for everything: the first source's volumes first, where older systems see them.

    Without a chosen table GPT is taken where all can live with it. Raises UsageError or SourceError with the reason of
    the source that cannot be on such a drive.
    """
    for number, each in enumerate((source, *source.further)):
        alone = (family_for(each, choices) if not number else known_family(each)).alone
        if alone:
            raise UsageError(
                f"--with: {each.path.name} is {alone}, so nothing else fits on its drive.",
                advice="Build it on a drive of its own.",
            )
    shared = replace(drive, is_shared=True)
    tables = (choices.table,) if choices.table is not None else _PREFERRED
    first_refusal: UsageError | None = None
    for table in tables:
        try:
            wishes = [
                _wish(known_family(each), each, _choices_of(number, choices, table), shared)
                for number, each in enumerate((source, *source.further))
            ]
        except UsageError as error:
            first_refusal = first_refusal or error
            continue
        return _joined(source, choices, wishes)
    assert first_refusal is not None
    raise first_refusal


def _choices_of(number: int, choices: Choices, table: str) -> Choices:
    if number:
        choices = msgspec.structs.replace(choices, **dict.fromkeys(_OWN))
    return msgspec.structs.replace(choices, table=table)


def _joined(source: Source, choices: Choices, wishes: Sequence[DriveWish]) -> DriveWish:
    if sum(not any(v.kind.names_loaders for v in wish.volumes) for wish in wishes) > 1:
        raise UsageError(
            "--with: firmware of PCs starts the first loader that it finds, so a drive holds one installer for PCs.",
            advice="Add installers for Macs, and build the other one on a drive of its own.",
        )
    main = wishes[0]
    # What older systems have to see comes first; firmware finds a volume that names its loader wherever it lies.
    order = sorted(range(len(wishes)), key=lambda number: any(v.kind.names_loaders for v in wishes[number].volumes))
    volumes: list[VolumeWish] = []
    names: dict[str, int] = {}
    seen: list[BootVolume] = []
    for number, wish in ((number, wishes[number]) for number in order):
        for volume, boot in zip(wish.volumes, wish.bootable.volumes, strict=True):
            if volume.use is Use.EFI_SYSTEM and any(other.use is Use.EFI_SYSTEM for other in volumes):
                continue  # one system volume serves all
            names[volume.name] = names.get(volume.name, 0) + 1
            name = volume.name if names[volume.name] == 1 else f"{volume.name} {names[volume.name]}"
            volumes.append(replace(volume, name=name, takes_rest=volume.takes_rest and number == 0))
            seen.append(boot)
    return DriveWish(
        choices=main.choices,
        table=main.table,
        volumes=volumes,
        decisions=_decisions(source, choices, wishes),
        splits=main.splits,
        laid_over=main.laid_over,
        bootable=JoinedDrive(main.bootable, tuple(seen)),
    )


def _decisions(source: Source, choices: Choices, wishes: Sequence[DriveWish]) -> list[Decision]:
    table = wishes[0].table
    shown = STYLES[table].shown
    reason = "as chosen"
    if choices.table is None:
        reason = "every part starts from it" if table == "gpt" else "a part of it is for BIOS machines"
    by = "you" if choices.table is not None else "tool"
    made: list[Decision] = []
    for number, wish in enumerate(wishes):
        name = f" ({number + 1})" if number else ""
        if number:
            path = source.further[number - 1].path
            made.append(Decision(f"source{name}", path.name, "its volumes go onto the same drive", "you"))
        for decision in wish.decisions:
            if decision.topic == "table" and number == 0:
                made.append(Decision("table", shown, reason, by, "table"))  # type: ignore[arg-type]
            elif not number or decision.topic not in _SAID_ONCE:
                choice = decision.choice if not number else ""
                made.append(replace(decision, topic=decision.topic + name, choice=choice))
    return made
