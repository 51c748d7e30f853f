"""`presets`: a shop's own defaults, with what each sets."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..common import places
from ..common.errors import UsageError
from .headings import Command
from .manner import manner
from .options import output_options
from .show import console, emit_json, facts, heading, paragraph

if TYPE_CHECKING:
    from ..planning.presets import Preset
    from .shop_documents import PresetBody


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone presets
  lucky-keystone presets --config shop/presets.toml
  lucky-keystone build installer.iso --preset counter --onto G7KM""",
)
@click.option(
    "--config", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", help="Another file with presets."
)
@output_options
def command(config: Path | None) -> None:
    """List the shop's own defaults for plan and build: --preset NAME uses them for what is not chosen.

    Before a preset comes what is given on the command line; behind it what the tool decides by itself.
    """
    from ..planning.presets import HOW, read_presets

    place = config or places.presets()
    if config is None and not place.exists():
        raise UsageError(
            f"There are no presets: {place} does not exist.",
            advice=f"Make it, or name another file with --config. {HOW}",
        )
    known = read_presets(place)
    if manner().as_json:
        from .shop_documents import PresetsDocument

        emit_json(PresetsDocument(file=str(place), presets=[_body(each) for each in known.values()]))
        return
    out = console()
    for each in known.values():
        heading(out, f"{each.name}{f': {each.about}' if each.about else ''}")
        facts(out, list(_rows(each)) or [("", "nothing")])
    if not known:
        paragraph(out, "There are no presets.")
    out.print(f"\nFrom {place}", style="quiet")


def _body(preset: Preset) -> PresetBody:
    from .shop_documents import PresetBody

    return PresetBody(
        name=preset.name,
        about=preset.about,
        choices=preset.choices,
        machines=[str(path) for path in preset.machines],
        trust=[str(path) for path in preset.trust],
        revoked=[str(path) for path in preset.revoked],
    )


def _rows(preset: Preset) -> Iterator[tuple[str, str]]:
    from ..families.choices import given, option

    for name, value in given(preset.choices).items():
        yield option(name), _shown(value)
    for name, paths in (("--machine", preset.machines), ("--trust", preset.trust), ("--revoked", preset.revoked)):
        for path in paths:
            yield name, str(path)


def _shown(value: Any) -> str:
    return "yes" if value is True else f"{value:,}" if isinstance(value, int) else str(value)
