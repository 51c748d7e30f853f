"""What a shell completes: tags of drives, images, undo files, presets, words."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import click
from click.shell_completion import CompletionItem


def complete_words(*words: str) -> Callable[[click.Context, click.Parameter, str], list[str]]:
    """Return what completes one of these words."""
    return lambda _context, _parameter, incomplete: [word for word in words if word.startswith(incomplete.lower())]


def complete_drive(ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Complete a DRIVE: the tags of the bay or of this computer, and files."""
    return _tags(ctx, incomplete, to_write=False)


def complete_target(ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Complete a drive that is going to be written: none that is protected."""
    return _tags(ctx, incomplete, to_write=True)


def _tags(ctx: click.Context, incomplete: str, *, to_write: bool) -> list[CompletionItem]:
    from ..common.errors import KeystoneError
    from ..doing.targets import host_of
    from ..drives.guards import held_back

    bay = ctx.params.get("bay") or os.environ.get("LUCKY_KEYSTONE_BAY")
    try:
        drives = host_of(Path(bay) if bay else None).drives()
    except KeystoneError:
        drives = ()
    tags = [
        CompletionItem(drive.tag, help=drive.model)
        for drive in drives
        if drive.tag.startswith(incomplete.upper()) and not (to_write and held_back(drive, drives))
    ]
    return [*tags, CompletionItem(incomplete, type="file")]


def complete_undo(_context: click.Context, _parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Complete the name of an undo file."""
    from ..common.places import journals
    from ..mending.journal import kept_in

    return [
        CompletionItem(each.path.name, help=f"{each.text.name}, {each.text.moment}")
        for each in kept_in(journals())
        if each.path.name.startswith(incomplete)
    ]


def complete_stored(_context: click.Context, _parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Complete the name of a downloaded image."""
    from ..fetching.store import Store

    return [CompletionItem(each.path.name) for each in Store().images() if each.path.name.startswith(incomplete)]


def complete_preset(ctx: click.Context, _parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Complete the name of one of the shop's presets."""
    from ..common import places
    from ..common.errors import KeystoneError
    from ..planning.presets import read_presets

    try:
        known = read_presets(ctx.params.get("config") or places.presets())
    except (KeystoneError, OSError):
        return []
    return [CompletionItem(name, help=each.about) for name, each in known.items() if name.startswith(incomplete)]


def complete_edition(ctx: click.Context, _parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Complete the word for an edition of the source on the line: mostly its number, with its name as help."""
    from ..common.errors import KeystoneError
    from ..families.windows.portable.editions import editions_of, words_of
    from ..sources.opening import open_source

    # Behind an option whose value is still to come, arguments are left over unread.
    source = next((Path(str(word)) for word in (ctx.params.get("source"), *ctx.args) if word), None)
    if source is None or not source.exists():  # a link is not opened for a key that was pressed
        return []
    try:
        opened = open_source(source)
        there = zip(words_of(opened), editions_of(opened), strict=True)
    except (KeystoneError, OSError):
        return []
    return [CompletionItem(word, help=edition.name) for word, (_, edition) in there if word.startswith(incomplete)]
