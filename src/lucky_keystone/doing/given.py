"""What was given for a piece of work: beside its source, of a shop's presets, and of the machines it is for."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from ..starting.mac_models import named_mac
from ..starting.trust import Machine, SignatureDatabase

if TYPE_CHECKING:
    from ..families.choices import Choices
    from ..families.family import Earlier
    from ..fetching.link import Place
    from ..machine.known import KnownMachine


class GivenSource(Struct, frozen=True):
    """What was given beside a source."""

    added: tuple[Path, ...] = ()
    """Folders whose files are added to it."""
    further: tuple[Place, ...] = ()
    """Sources for the same drives."""
    drivers: tuple[Path, ...] = ()
    """Folders with driver packages."""
    answer_file: Path | None = None
    sha256: str | None = None
    verify: bool = False
    """Its own integrity tables are to be compared first."""
    catalogues: tuple[Place, ...] = ()
    authority: Path | None = None
    """Certificates for links."""

    @property
    def read_beside(self) -> tuple[Path, ...]:
        """Files and folders that are read as well, on none of which may be written."""
        further = (each for each in self.further if isinstance(each, Path))
        return (*self.added, *self.drivers, *([self.answer_file] if self.answer_file else []), *further)


class GivenPreset(Struct, frozen=True):
    """Which of a shop's presets fills in what was not chosen."""

    name: str | None
    usual: str | None
    """The environment's, where none was named."""
    config: Path | None
    """The file of presets; None: the usual one."""


class GivenMachines(Struct, frozen=True):
    """What drives are to start: files of machines, or what one trusts."""

    trust: tuple[Path, ...]
    revoked: tuple[Path, ...]
    model: str
    """Of a Mac, or its board id."""
    files: tuple[Path, ...]
    today: date

    def machine(self) -> Machine:
        """Return what is known of the machine of a forecast. Raises UsageError or SourceError for its files."""
        model, board = named_mac(self.model)
        if not self.trust and not self.revoked:
            return Machine(model=model, board=board, today=self.today)
        from ..starting.signature_lists import read_database

        return Machine(
            SignatureDatabase.joined(map(read_database, self.trust)) if self.trust else None,
            SignatureDatabase.joined(map(read_database, self.revoked)),
            model,
            board,
            self.today,
        )

    def known(self) -> tuple[KnownMachine, ...]:
        """Return the machines that files describe. Raises UsageError."""
        from ..machine.known import known_machine

        return tuple(known_machine(path, self.today) for path in self.files)


class AskedFor(Struct, frozen=True):
    """What was chosen, on the command line and by a preset."""

    choices: Choices
    earlier: Mapping[str, Earlier]
    """Which of the choices the preset made."""
    machine: Machine
    machines: tuple[KnownMachine, ...]


def asked_for(
    chosen: Mapping[str, Any], preset: GivenPreset, machines: GivenMachines, *, of_plan: bool = False
) -> AskedFor:
    """Return what is wanted: `chosen` by name, then what the preset says.

    A saved plan (`of_plan`) has its choices: the environment's preset does not apply to it. Raises UsageError.
    """
    from ..families.choices import CHOICE_NAMES, Choices  # not every command chooses

    choices = Choices(**{name: chosen[name] for name in CHOICE_NAMES})
    name = preset.name or (None if of_plan else preset.usual)
    if not name:
        return AskedFor(choices, {}, machines.machine(), machines.known())
    from ..planning.presets import preset_named

    shop = preset_named(name, preset.config)
    both = GivenMachines(
        (*machines.trust, *shop.trust),
        (*machines.revoked, *shop.revoked),
        machines.model,
        (*machines.files, *shop.machines),
        machines.today,
    )
    return AskedFor(shop.fill(choices), shop.earlier(choices), both.machine(), both.known())


def is_plan_file(path: Place) -> bool:
    """Tell whether a source that was named is a saved plan."""
    return isinstance(path, Path) and path.suffix.lower() == ".toml" and not path.is_dir()
