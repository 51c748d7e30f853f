"""`schema`: what the JSON documents look like."""

from __future__ import annotations

from importlib.resources import files

import click

from ..common.errors import UsageError
from ..common.nearest import did_you_mean
from .headings import Command
from .show import console

_FOLDER = files("lucky_keystone") / "schemas"
_ENDING = ".schema.json"


def names() -> list[str]:
    """Return what there are schemas of."""
    return sorted(file.name.removesuffix(_ENDING) for file in _FOLDER.iterdir() if file.name.endswith(_ENDING))


def complete_name(_context: click.Context, _parameter: click.Parameter, incomplete: str) -> list[str]:
    """Complete the name of a schema."""
    return [name for name in names() if name.startswith(incomplete)]


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone schema
  lucky-keystone schema check > check.schema.json
  lucky-keystone schema check --example""",
)
@click.argument("name", metavar="[COMMAND]", required=False, shell_complete=complete_name)
@click.option("--example", is_flag=True, help="Print an example document instead.")
def command(name: str | None, example: bool) -> None:
    """Print the JSON Schema of a COMMAND's --json document; without COMMAND list what there is.

    'error' is what every command prints when it fails, 'progress' a line of --progress json.
    """
    known = names()
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
