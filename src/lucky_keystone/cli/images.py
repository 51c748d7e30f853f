"""`images`: what lies in the store."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from ..common.errors import ProtectError, SourceError, UsageError
from ..common.units import exact_size, shown_size
from .completion import complete_stored
from .headings import Command
from .manner import manner
from .options import Size, output_options
from .question import ask, can_ask
from .show import Column, console, emit_json, paragraph, table
from .stages import Stages, tell

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..fetching.store import Store, StoredImage


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone images
  lucky-keystone images --verify
  lucky-keystone images --forget tidewell-12.iso
  lucky-keystone images --keep-below 100GB""",
)
@click.option("--verify", "verifying", is_flag=True, help="Compare every image with its sum.")
@click.option(
    "--forget",
    "forgotten",
    metavar="NAME-or-SUM",
    shell_complete=complete_stored,
    help="Delete this image; asks first.",
)
@click.option(
    "--keep-below",
    type=Size(),
    metavar="SIZE",
    help="Delete the images used longest ago, until the others have this size together; asks first.",
)
@click.option("--yes", is_flag=True, help="Delete without asking. For scripts.")
@output_options
def command(verifying: bool, forgotten: str | None, keep_below: int | None, yes: bool) -> int:
    """List the downloaded images: what each is, how it was proven, when it was last used.

    'fetch' puts them there; 'inspect', 'plan' and 'build' take them by their name, or by the first digits of the sum.
    """
    from ..fetching.store import Store

    store = Store()
    gone = _to_forget(store, forgotten, keep_below)
    if gone:
        named = ", ".join(f"{image.about.name} ({shown_size(image.about.size)})" for image in gone)
        _confirm(f"Delete {named}?", yes=yes)
        for image in gone:
            store.forget(image)
    damaged = _damaged(store) if verifying else {}
    images = store.images()
    if manner().as_json:
        _emit(store, images, gone, damaged)
    else:
        _show(store, images, gone, damaged)
    return next(iter(damaged.values())).exit_code if damaged else 0


def _to_forget(store: Store, forgotten: str | None, keep_below: int | None) -> list[StoredImage]:
    """Return the images that are to be deleted. Raises UsageError for one that is not there."""
    if forgotten is not None:
        found = store.find(forgotten)
        if found is None:
            raise UsageError(f"{forgotten} is not a downloaded image.", advice="'lucky-keystone images' lists them.")
        return [found]
    total = 0
    gone: list[StoredImage] = []
    for image in store.images() if keep_below is not None else ():  # those used last come first
        total += image.about.size
        gone += [image] if total > (keep_below or 0) else []
    return gone


def _damaged(store: Store) -> dict[str, SourceError]:
    """Compare every image with its sum; return what is wrong, by the sum."""
    found: dict[str, SourceError] = {}
    with Stages() as stages:
        for image in store.images():
            try:
                note = store.verify(image, stages.line(image.about.name))
                if note:
                    tell(note)
            except SourceError as error:
                found[image.sha256] = error
    return found


def _emit(
    store: Store, images: Sequence[StoredImage], gone: Sequence[StoredImage], damaged: dict[str, SourceError]
) -> None:
    from .documents import ImagesDocument, StoredBody

    bodies = [
        StoredBody(
            name=image.about.name,
            path=str(image.path),
            size=image.about.size,
            sha256=image.sha256,
            proven=image.about.proven,
            damaged=image.sha256 in damaged,
            words=image.about.words,
            origin=image.about.origin,
            fetched=image.about.fetched,
            used=image.about.used,
            checked=image.about.checked,
        )
        for image in images
    ]
    emit_json(ImagesDocument(store=str(store.folder), images=bodies, forgotten=[image.about.name for image in gone]))


def _show(
    store: Store, images: Sequence[StoredImage], gone: Sequence[StoredImage], damaged: dict[str, SourceError]
) -> None:
    out = console()
    for image in gone:
        out.print(f"Deleted: {image.about.name}")
    if not images:
        out.print(f"There are no downloaded images ({store.folder}).")
        return
    columns = [Column("Image", folds=True), Column("Size", right=True), Column("SHA-256"), Column("Proof", folds=True)]
    table(
        out,
        [*columns, Column("Last used"), Column("What it is", folds=True)],
        [
            (
                image.about.name,
                shown_size(image.about.size),
                image.sha256[:12],
                "DAMAGED" if image.sha256 in damaged else _proof(image),
                image.about.used[:10],
                image.about.words,
            )
            for image in images
        ],
    )
    out.print()
    paragraph(out, f"{exact_size(sum(image.about.size for image in images))} in {store.folder}", style="quiet")
    for error in damaged.values():
        paragraph(out, error.message, style="bad")
        paragraph(out, error.advice, style="quiet")


def _proof(image: StoredImage) -> str:
    when = f", compared {image.about.checked[:10]}" if image.about.checked else ""
    return f"sum was given{when}" if image.about.proven else f"not proven{when}"


def _confirm(question: str, *, yes: bool) -> None:
    """Raise ProtectError where nobody agrees."""
    if yes:
        return
    if not can_ask():
        raise ProtectError(f"{question} There is no terminal to ask.", advice="Add --yes when that is what you want.")
    if ask(f"{question} (yes, or Enter to leave it)").lower() != "yes":
        raise click.Abort
