"""The options of a command under headings, in its help: what is looked for together is found together."""

from __future__ import annotations

from collections.abc import Iterator

import click

_FIRST = "Options"
_HEADINGS: tuple[tuple[str, str], ...] = (
    ("Where", "--onto --for --to --into --size --sector-size --bay"),
    ("What it must start", "--machine --firmware --machine-model --loader-signing --trust --revoked"),
    ("The drive", "--table --file-system --label --purpose --with --use --cluster --part-size --identity"),
    (
        "Windows setup",
        "--edition --entry-name --default-entry --menu-timeout --ask-edition --waive --answer-file --drivers "
        "--internal-disks",
    ),
    (
        "Source and proof",
        "--against --add --sha256 --verify-source --link --keep --catalogue --release --build --language "
        "--architecture --source --as-is --authority",
    ),
    ("Several drives, and again", "--batch --batch-report --update --quick --from-scratch --preset --config"),
    ("Safety", "--dry-run --yes --unmount --allow-internal --allow-member --no-verify --no-probe --eject --overwrite"),
    (
        "What is shown and kept",
        "--layout --save --figure --csv --quiet --verbose --plain --progress --json --help",
    ),
)
"""What has no heading is the command's own, and comes first."""


def under_headings(options: list[click.Option]) -> Iterator[tuple[str, list[click.Option]]]:
    """Yield the headings that a command needs, each with its options, the commonest first."""
    place = {name: (number, at) for number, (_, names) in enumerate(_HEADINGS) for at, name in enumerate(names.split())}
    placed = {option: next((place[name] for name in option.opts if name in place), (-1, 0)) for option in options}
    for number, heading in enumerate((_FIRST, *(heading for heading, _ in _HEADINGS)), -1):
        found = [option for option in options if placed[option][0] == number]
        if found:
            yield heading, sorted(found, key=lambda option: placed[option])


class Command(click.Command):
    """A command whose help has its options under headings."""

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        options = [each for each in self.get_params(ctx) if isinstance(each, click.Option) and not each.hidden]
        for heading, found in under_headings(options):
            with formatter.section(heading):
                formatter.write_dl([record for each in found if (record := each.get_help_record(ctx)) is not None])
