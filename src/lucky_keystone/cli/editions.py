"""`inspect --edition`: what is inside an edition of an install image, and files taken out of it."""

from __future__ import annotations

from functools import lru_cache
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from ..common.errors import SourceError, UsageError
from ..common.units import counted, exact_size
from .manner import manner
from .show import Column, console, emit_json, paragraph, table
from .sources import open_alone
from .stages import Stages

if TYPE_CHECKING:
    from ..fetching.link import Place
    from ..fetching.remote import Terms
    from ..wim.edition import EditionEntry, EditionTree
    from ..wim.read import Edition
    from ..wim.whole import WholeImage
    from .documents import ListedEntry

_SHOWN = 5_000
"""Rows of a listing in a terminal; --matching narrows it down."""


class WantedFiles(Struct, frozen=True):
    """What is wanted of an edition: its files listed, or some of them taken out."""

    edition: str | None
    listing: bool
    matching: str | None
    taken: str | None
    folder: Path | None

    def __bool__(self) -> bool:
        return self != WantedFiles(None, False, None, None, None)

    def refuse_what_does_not_go_together(self) -> None:
        """Raise UsageError where the options do not go together."""
        if self.taken is None:
            if self.folder is not None:
                raise UsageError("--into goes with --take PATH.", advice="Name the file or folder to be taken out.")
            if not self.listing and self.matching is None:
                raise UsageError(
                    "--edition goes with --list, --matching or --take.", advice="Add --list to see its files."
                )
            return
        if self.folder is None:
            raise UsageError("--take goes with --into FOLDER.", advice="Name the folder that the file goes into.")
        if self.listing or self.matching is not None:
            raise UsageError("--take cannot be combined with --list or --matching.", advice="List first, then take.")


def look_inside(source: Place, wanted: WantedFiles, terms: Terms) -> None:
    """List an edition's files, or take some out. Raises UsageError where the options do not go together."""
    wanted.refuse_what_does_not_go_together()
    image, edition = _chosen(source, wanted.edition, terms)
    if not image.is_fast and not manner().quiet:
        paragraph(
            console(err=True),
            "Unpacked in plain Python, which takes about 50 times as long: the package wasmtime is not installed "
            "(python -m pip install wasmtime).",
            style="quiet",
        )
    tree = image.tree(edition)
    if wanted.taken is not None and wanted.folder is not None:
        _take(image, tree, edition, wanted.taken, wanted.folder)
    else:
        _list(image, tree, edition, wanted.matching)


def _chosen(source: Place, wanted: str | None, terms: Terms) -> tuple[WholeImage, Edition]:
    """Return the edition that is meant, and the image that holds it."""
    from ..families.windows.portable.editions import all_images, chosen_edition

    opened = open_alone(source, terms)
    if not all_images(opened):
        raise SourceError(
            f"{source} holds no install image (sources/install.wim, .esd or .swm).",
            advice="Name an installer of Windows, or an install image itself.",
        )
    return chosen_edition(opened, wanted)


def _list(image: WholeImage, tree: EditionTree, edition: Edition, matching: str | None) -> None:
    from .documents import EditionDocument, ListedEntry

    found = tree.matching(matching) if matching else tree.walk()
    if manner().as_json:
        entries = [_listed(ListedEntry, image, path, entry) for path, entry in found]
        emit_json(EditionDocument(image=image.first.place, edition=edition, entries=entries))
        return
    out = console()
    rows = sorted(found, key=lambda item: item[0].lower()) if matching else list(islice(found, _SHOWN + 1))
    table(
        out,
        [Column("Bytes", right=True), Column("Modified"), Column("Path", folds=True)],
        [_row(image, path, entry) for path, entry in rows[:_SHOWN]],
    )
    if len(rows) > _SHOWN:
        paragraph(out, "and more: --matching PATTERN narrows it down, --json lists all.", style="warn")
    elif not rows:
        paragraph(out, f"Nothing in edition {edition.index} ({edition.name}) matches '{matching}'.")


def _row(image: WholeImage, path: str, entry: EditionEntry) -> tuple[str, str, str]:
    if entry.is_folder:
        return "folder", "", path + "/"
    size = "link" if entry.is_reparse_point else f"{image.size_of(entry):,}"
    return size, f"{entry.modified:%Y-%m-%d %H:%M}", path


@lru_cache(4096)
def _written(time: int) -> str:
    from ..wim.edition import moment

    return f"{moment(time):%Y-%m-%dT%H:%M:%SZ}"


def _listed(made: type[ListedEntry], image: WholeImage, path: str, entry: EditionEntry) -> ListedEntry:
    return made(
        path=path,
        kind="folder" if entry.is_folder else "link" if entry.is_reparse_point else "file",
        size=image.size_of(entry),
        sha1="" if entry.is_empty else entry.sha1.hex(),
        modified=_written(entry.written),
        attributes=entry.attributes,
        short_name=entry.short_name,
        streams=[each.name for each in entry.streams],
    )


def _take(image: WholeImage, tree: EditionTree, edition: Edition, path: str, folder: Path) -> None:
    from ..wim.taking import take
    from .documents import TakenDocument, TakenFile

    with Stages() as stages:
        taken = take(image, tree, path, folder, stages)
    if manner().as_json:
        files = [
            TakenFile(path=each.path, into=str(each.place), size=each.size, sha1=each.sha1, streams=each.streams)
            for each in taken
        ]
        emit_json(TakenDocument(image=image.first.place, edition=edition, files=files))
        return
    out = console()
    for each in taken[:20]:
        paragraph(out, f"{each.place}: {exact_size(each.size)}, SHA-1 verified", indent=2, hanging=4)
    if len(taken) > 20:
        out.print(f"  and {len(taken) - 20:,} more files")
    if streams := sum(each.streams for each in taken):
        left = f"{counted(streams, 'named stream')} of them: only files' own bytes are taken."
        paragraph(out, f"Left out: {left}", style="warn", indent=2, hanging=4)
    if not taken:
        out.print("  The folder is empty: nothing to take.")
