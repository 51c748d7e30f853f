"""A shop's own defaults under a name: one TOML file (docs/formats.md), in the platform's usual place for settings.

What is chosen on the command line comes before a preset, and a preset before what the tool decides by itself.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from ..common import places
from ..common.errors import UsageError
from ..common.nearest import did_you_mean
from ..common.settings import read_settings, unknown_key
from ..common.units import parse_size
from ..families.choices import CHOICE_NAMES, FIELDS, Choices, given
from ..families.family import Earlier

FORMAT = 1
"""Environment variable: another file."""
PRESET = "LUCKY_KEYSTONE_PRESET"
"""Environment variable: the preset that is used when none is named."""
_FILES = ("machine", "trust", "revoked")
_KEYS = ("about", *_FILES, *(name for name, choice in FIELDS.items() if choice.is_of_a_shop))


class Preset(Struct, frozen=True):
    """What a shop always does for one kind of machine."""

    name: str
    about: str
    choices: Choices
    machines: tuple[Path, ...] = ()
    """Files of machines, as --machine takes them."""
    trust: tuple[Path, ...] = ()
    revoked: tuple[Path, ...] = ()

    def fill(self, chosen: Choices) -> Choices:
        """Return choices with those of the preset where nothing was chosen."""
        return msgspec.structs.replace(chosen, **self._used(chosen))

    def earlier(self, chosen: Choices) -> Mapping[str, Earlier]:
        """Return the choices that come from the preset, with the reason that the plan gives."""
        return dict.fromkeys(self._used(chosen), Earlier("preset", f"as the preset '{self.name}' has it"))

    def _used(self, chosen: Choices) -> dict[str, Any]:
        made = given(chosen)
        return {key: value for key, value in given(self.choices).items() if key not in made}


HOW = 'It is TOML: presets = 1, and under [preset.NAME] choices as the options have them, such as firmware = "bios".'


def read_presets(path: Path) -> Mapping[str, Preset]:
    """Read a shop's presets. Raises UsageError naming the line and key that are wrong."""
    advice = f"Name a file with presets: --config FILE. {HOW}"
    text, document = read_settings(path, "a file of presets", "presets", FORMAT, advice)
    tables = document.pop("preset", {})
    for key in document:
        raise unknown_key(path, text, key, ("presets", "preset"), "Known are: presets, preset.")
    if not isinstance(tables, dict) or not all(isinstance(each, dict) for each in tables.values()):
        raise UsageError(f"{path}: 'preset' is not a table of presets.", advice="Write [preset.NAME] above each.")
    return {name: _preset(path, text, name, table) for name, table in tables.items()}


def _preset(path: Path, text: str, name: str, table: dict[str, Any]) -> Preset:
    for key in table:
        if key not in _KEYS:
            raise unknown_key(path, text, f"preset.{name}.{key}", _KEYS, f"Known are: {', '.join(_KEYS)}.")
    values = {key: value for key, value in table.items() if key in CHOICE_NAMES}
    sizes = {key: value for key, value in values.items() if FIELDS[key].is_size and isinstance(value, str)}
    values |= {key: parse_size(value) for key, value in sizes.items()}
    try:
        choices = msgspec.convert(values, Choices, strict=True)
        about = msgspec.convert(table.get("about", ""), str, strict=True)
        files = {key: msgspec.convert(table.get(key, []), list[str], strict=True) for key in _FILES}
    except msgspec.ValidationError as error:
        raise UsageError(f"{path}, preset '{name}': {error}.", advice="Correct it, then try again.") from error
    places = {key: tuple(path.parent / each for each in named) for key, named in files.items()}
    return Preset(name, about, choices, places["machine"], places["trust"], places["revoked"])


def preset_named(name: str, path: Path | None) -> Preset:
    """Return a preset. Raises UsageError where there is none of that name."""
    place = path or places.presets()
    if path is None and not place.exists():
        raise UsageError(
            f"There are no presets: {place} does not exist.",
            advice=f"Make it, or name another one with --config FILE. {HOW}",
        )
    known = read_presets(place)
    if name not in known:
        listed = did_you_mean(name, known) or "'lucky-keystone presets' lists them."
        raise UsageError(f"{place} has no preset '{name}'.", advice=listed)
    return known[name]
