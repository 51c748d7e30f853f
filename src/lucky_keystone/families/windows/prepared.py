"""A Windows source as it goes onto the drive: its own files, with what is put on top of them, and why."""

from __future__ import annotations

from msgspec import Struct

from ...common.remembering import remembered
from ...content.tree import File, Folder
from ...sources.source import Source
from ..choices import Choices
from ..family import Decision
from .carried import NOTHING, Change, missing_loaders, with_one_signing, with_signing
from .facts import is_rescue
from .setup_files import answers, drivers, edition_list


class Prepared(Struct, frozen=True):
    """What goes onto the drive."""

    root: Folder
    decisions: tuple[Decision, ...]
    laid_over: tuple[str, ...]
    """Paths of files, and of folders with a '/' behind, that the source itself does not have, or has otherwise."""


def prepared(source: Source, choices: Choices) -> Prepared:
    """Put on top of a source what the choices and its release ask for. Raises UsageError or SourceError."""
    asked = Choices(
        loader_signing=choices.loader_signing,
        waive=choices.waive,
        ask_edition=choices.ask_edition,
        edition=choices.edition,
        entry_name=choices.entry_name,
        default_entry=choices.default_entry,
        menu_timeout=choices.menu_timeout,
    )
    return _prepared(source, asked)


@remembered
def _prepared(source: Source, choices: Choices) -> Prepared:
    root = source.root
    decisions: list[Decision] = []
    laid: dict[str, None] = {}
    for step in _STEPS:
        change = step(source, root, choices)
        root = laid_over(root, change)
        decisions += change.decisions
        laid |= dict.fromkeys(change.places)
    return Prepared(root, tuple(decisions), tuple(laid))


def _signing(source: Source, root: Folder, choices: Choices) -> Change:
    if choices.loader_signing is not None:
        return with_signing(source, root, choices.loader_signing)
    return with_one_signing(source, root) if source.merged else NOTHING


def _editions(source: Source, root: Folder, choices: Choices) -> Change:
    if choices.edition is None and all(is_rescue(each) for each in source.joined):
        return NOTHING
    from .kept_editions import kept_editions  # with all that composes install images

    return kept_editions(source, root, choices)


def _menu(source: Source, root: Folder, choices: Choices) -> Change:
    from .menu import menu  # with all that makes hives

    return menu(source, root, choices)


_STEPS = (
    lambda source, root, _choices: missing_loaders(source, root),
    _signing,
    answers,
    edition_list,
    _editions,
    _menu,
    lambda source, _root, _choices: drivers(source),
)
"""What may be put on top of a source, one on top of the other: (source, its files so far, choices) to a change."""


def laid_over(root: Folder, change: Change) -> Folder:
    """Return a tree with files of a change in it; what is there by that name is replaced."""
    if not change.files:
        return root
    top = Folder("", root.modified)
    for path, file in change.files:
        top.put(path, File(path.rpartition("/")[2], file.content, file.modified, file.special))
    return root.merged(top)
