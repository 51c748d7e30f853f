"""`split`: an install image into parts, on its own."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.errors import DriveError, UsageError, naming
from ..common.invoker import make_folder
from ..common.units import exact_size
from .headings import Command
from .manner import manner
from .options import Sha256, Size, SourcePlace, authority_option, output_options, terms_of
from .show import console, emit_json, paragraph
from .stages import Stages

if TYPE_CHECKING:
    from collections.abc import Callable

    from ..common.progress import Progress
    from ..fetching.link import Place
    from ..wim.read import InstallImage


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone split sources/install.wim --into parts/
  lucky-keystone split install.wim --into parts/ --part-size 2GiB
  lucky-keystone split install.wim --into parts/ --edition 'Tidewell Crew'""",
)
@click.argument("image", type=SourcePlace())
@click.option(
    "--into",
    "folder",
    required=True,
    type=click.Path(path_type=Path),
    metavar="DIR",
    help="Folder for the parts; made when it is missing.",
)
@click.option(
    "--edition",
    "editions",
    multiple=True,
    metavar="NAME",
    help="Keep this edition, by its number or name; the others are left out. Repeatable.",
)
@click.option("--part-size", type=Size(), metavar="SIZE", help="Largest part; FAT32's largest file when left out.")
@click.option("--sha256", type=Sha256(), metavar="SUM", help="Of a link: the image must have this SHA-256.")
@authority_option
@output_options
def command(
    image: Place,
    folder: Path,
    editions: tuple[str, ...],
    part_size: int | None,
    sha256: str | None,
    authority: Path | None,
) -> None:
    """Divide an install image (.wim, or a link to one) into as few parts (.swm) as possible.

    The original is left as it is. With --edition what only other editions need is left out.

    Run the same command again to continue an interrupted split.
    """
    from ..content.ranges import FileRange, RangedFile
    from ..content.source_file import SourceFile
    from ..fetching.link import Link
    from ..fetching.remote import RemoteFile
    from ..wim.export import write_parts
    from ..wim.read import InstallImage
    from ..wim.split import LARGEST_PART, divide, part_names

    prove: Callable[[Progress], None] | None = None
    if isinstance(image, Link):
        remote = RemoteFile(image, terms_of(sha256, authority))
        file: RangedFile = remote
        remote.read_in_order(())
        prove = remote.prove
    elif sha256 is not None:
        raise UsageError("--sha256 goes with a link.", advice="Leave it out.")
    else:
        file = SourceFile(image)
    whole = InstallImage(FileRange(file, 0, file.size), str(image))
    has_sums = whole.has_integrity
    if editions:
        whole = _kept(whole, editions)
    parts = divide(whole, part_size or LARGEST_PART, has_sums=has_sums)
    with naming(str(folder), DriveError, advice="Choose a folder that can be written to."):
        make_folder(folder)
    paths = [folder / name for name in part_names(image.name, len(parts))]
    with Stages() as stages:
        were_there = write_parts(parts, paths, stages, partial(prove, stages) if prove else None)
    if manner().as_json:
        from .documents import PartBody, SplitDocument

        bodies = [
            PartBody(path=str(path), size=part.content.size, resources=part.resource_count, was_there=was_there)
            for part, path, was_there in zip(parts, paths, were_there, strict=True)
        ]
        emit_json(SplitDocument(image=str(image), parts=bodies))
        return
    out = console()
    for part, path, was_there in zip(parts, paths, were_there, strict=True):
        sizes = f"{exact_size(part.content.size)}, {part.resource_count:,} resources"
        paragraph(out, f"{path}: {sizes}{', already there' if was_there else ''}", indent=2, hanging=4)
    if not manner().quiet:
        out.print()
        paragraph(out, "Put all parts where the whole image would be (sources/ of an installer): setup finds them.")


def _kept(image: InstallImage, wanted: tuple[str, ...]) -> InstallImage:
    """Return an image with the editions that are meant alone, in the original's order."""
    from ..wim.combining import Wanted, combined
    from ..wim.named import place_of_named
    from ..wim.whole import WholeImage

    whole = WholeImage([image])
    there = [(str(edition.index), edition) for edition in whole.editions]
    numbers = sorted({place_of_named(there, word, image.place) for word in wanted})
    return combined([Wanted(whole, [whole.editions[number] for number in numbers])], image.place)
