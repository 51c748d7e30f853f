"""What the technician may choose, the same for planning and building. None means: decide, and say why."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, get_args, get_type_hints

import msgspec
from msgspec import Struct, field

from ..common.errors import UsageError
from ..common.nearest import did_you_mean
from ..common.units import SECTOR_SIZES
from ..starting.generations import GENERATIONS
from ..tables.styles import STYLES
from ..volumes.kinds import COMPOSED


class Choice(Struct, frozen=True):
    """What is to be known of a choice beside its type: the one place where a further one is described."""

    words: tuple[str, ...] = ()
    """Those it takes; none: whatever a family, a volume or a file makes of it."""
    is_shared: bool = False
    """True when it is for all sources of a drive; else for the first one's volumes alone."""
    is_of_a_shop: bool = True
    """False for what is chosen for one drive or source: no preset has it."""
    is_size: bool = False
    """True for bytes, which files that people write may have as '4 KiB'."""


Bytes = Annotated[int, msgspec.Meta(ge=0, le=(1 << 63) - 1)]


class Choices(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Choices as given. Sizes in bytes."""

    table: Annotated[str | None, Choice(tuple(STYLES), is_shared=True)] = None
    firmware: Annotated[str | None, Choice(("bios", "uefi", "both"))] = None
    file_system: Annotated[str | None, Choice(("fat32", "ntfs", "fat32+ntfs"))] = None
    label: Annotated[str | None, Choice()] = None
    cluster: Annotated[Bytes | None, Choice(is_size=True)] = None
    part_size: Annotated[Bytes | None, Choice(is_size=True)] = None
    use: Annotated[str | None, Choice(("whole", "needed"))] = None
    identity: Annotated[str | None, Choice(is_of_a_shop=False)] = None
    purpose: Annotated[str | None, Choice(is_shared=True)] = None
    edition: Annotated[str | None, Choice(is_of_a_shop=False)] = None
    internal_disks: Annotated[str | None, Choice(("offline", "online"))] = None
    """Of a system that runs from the drive: whether it uses the disks of the machine that it is started on."""
    waive: Annotated[str | None, Choice()] = None
    loader_signing: Annotated[str | None, Choice(tuple(generation.name for generation in GENERATIONS))] = None
    """Generation of certificates that the loaders are to be signed under."""
    ask_edition: Annotated[bool | None, Choice()] = None
    """True: setup asks which edition to install."""
    entry_name: Annotated[str | None, Choice(is_of_a_shop=False)] = None
    """Of the boot manager's list, in its order, with commas between them."""
    default_entry: Annotated[str | None, Choice(is_of_a_shop=False)] = None
    """The name or number of the entry that is started when nobody chooses."""
    menu_timeout: Annotated[int | None, Choice()] = None
    """Seconds until that happens."""
    as_is: Annotated[bool | None, Choice(is_shared=True, is_of_a_shop=False)] = None
    """True: a source that is known to be incomplete is built all the same."""


CHOICE_NAMES = Choices.__struct_fields__


def _fields() -> Mapping[str, Choice]:
    hints = get_type_hints(Choices, include_extras=True)
    return {name: next(each for each in get_args(hints[name]) if isinstance(each, Choice)) for name in CHOICE_NAMES}


FIELDS = _fields()
"""What is to be known of each choice, by its name."""


class TakenChoices(Struct, frozen=True):
    """Which choices a family takes, and why it takes no others."""

    names: frozenset[str]
    why_not: Mapping[str, str] = field(default_factory=dict)
    """Reasons, completing '--option value: …', for choices that are better refused with one of their own."""
    instead: Mapping[str, str] = field(default_factory=dict)
    """Advice, where leaving the choice out is not all that there is to say."""
    otherwise: str = "it has no effect on this kind of drive"
    """The reason for all others."""

    def refuse_others(self, choices: Choices) -> None:
        """Raise UsageError for a choice that was made and that is not taken."""
        for name, value in given(choices).items():
            if name not in self.names:
                shown = option(name) if value is True else f"{option(name)} {value}"
                why, advice = self.why_not.get(name, self.otherwise), self.instead.get(name, "Leave it out.")
                raise UsageError(f"{shown}: {why}.", advice=advice)


def all_but(why_not: Mapping[str, str], instead: Mapping[str, str] | None = None) -> TakenChoices:
    """Return the choices of a family that takes all but these, for these reasons, with this advice."""
    return TakenChoices(frozenset(CHOICE_NAMES) - set(why_not), why_not, instead or {})


def check_choices(choices: Choices, sector_size: int) -> None:
    """Raise UsageError for an invalid value.

    Whether values go together is the family's to say.
    """
    for name, described in FIELDS.items():
        value = getattr(choices, name)
        if value is not None and described.words and value not in described.words:
            listed = ", ".join(described.words)
            if name == "file_system" and (kind := COMPOSED.get(value)) is not None and not kind.firmware_reads:
                raise UsageError(
                    f"No installer is put on {kind.shown} by choice: firmware of PCs does not read it.",
                    advice=f"Choose one of: {listed}.",
                )
            raise UsageError(
                f"{option(name)} {value} is not one of: {listed}.",
                advice=did_you_mean(value, described.words) or f"Choose one of: {listed}.",
            )
    if sector_size not in SECTOR_SIZES:
        raise UsageError(f"Sectors of {sector_size} bytes are not supported.", advice="Choose 512 or 4096.")


def given(choices: Choices) -> dict[str, str | int]:
    """Return the choices that were made, by name."""
    values = {name: getattr(choices, name) for name in CHOICE_NAMES}
    return {name: value for name, value in values.items() if value is not None and value is not False}


def option(name: str) -> str:
    """Return a choice's name as it is typed."""
    return "--" + name.replace("_", "-")
