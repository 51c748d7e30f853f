"""`schema`: what the JSON documents look like."""

from __future__ import annotations

from importlib.resources import files

import click

from ..errors import UsageError
from ..nearest import did_you_mean
from .show import console

_FOLDER = files("lucky_keystone") / "schemas"
_ENDING = ".schema.json"


@click.command(
    epilog="""\b
Examples:
  lucky-keystone schema
  lucky-keystone schema check > check.schema.json
  lucky-keystone schema check --example"""
)
@click.argument("name", metavar="[COMMAND]", required=False)
@click.option("--example", is_flag=True, help="Print an example document instead.")
def command(name: str | None, example: bool) -> None:
    """Print the JSON Schema of a COMMAND's --json document; without COMMAND list what there is.

    'error' is what every command prints when it fails, 'progress' a line of --progress json.
    """
    known = sorted(file.name.removesuffix(_ENDING) for file in _FOLDER.iterdir() if file.name.endswith(_ENDING))
    if name is None:
        out = console()
        for each in known:
            out.print(each)
        return
    if name not in known:
        raise UsageError(
            f"There is no schema '{name}'.", advice=f"{did_you_mean(name, known)}There are: {', '.join(known)}."
        )
    click.echo((_FOLDER / f"{name}{'.example.json' if example else _ENDING}").read_text(encoding="utf-8"), nl=False)
