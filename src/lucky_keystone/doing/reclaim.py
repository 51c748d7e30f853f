"""The run of `reclaim`: a drive erased, and given one empty volume."""

from __future__ import annotations

from contextlib import closing

from msgspec import Struct

from ..building.build import BuildResult, build
from ..building.reclaim import compose_storage
from ..drives.guards import Guard
from ..volumes.kinds import COMPOSED
from .after import tell_system
from .dialogue import Dialogue
from .logged import Logged
from .targets import Chosen, open_for_writing


class Reclaimed(Struct, frozen=True):
    """A drive that is ordinary storage again."""

    label: str
    """As the volume stores it."""
    shown_kind: str
    size: int
    """Bytes of the volume."""
    beyond: int
    """Bytes behind the volume, which nothing describes."""
    result: BuildResult
    notes: list[str]


def reclaim(
    chosen: Chosen, dialogue: Dialogue, lifted: frozenset[Guard], label: str, cluster: int | None, file_system: str
) -> Reclaimed:
    """Have it confirmed, and write one empty volume. `cluster`: bytes, or None for what is usual."""
    image = compose_storage(chosen.shape(None), label, cluster, file_system)
    with Logged("reclaim", chosen) as log:
        dialogue.confirm_loss(chosen, "erased")
        with closing(open_for_writing(chosen, image.size, 0, lifted=lifted)) as medium:
            try:
                chosen.journal().clear()
                with dialogue.progress() as progress:
                    result = build(image, medium, progress, resume=False, shelf=chosen.shelf())
                notes = tell_system(chosen, medium, image.partitions)
            finally:
                log.retries = medium.retries
        log.bytes_written = result.bytes_written
    kind, volume = COMPOSED[file_system], image.partitions[0]
    beyond = image.size - volume.size - volume.offset
    return Reclaimed(kind.stored_label(label), kind.shown, volume.size, beyond, result, notes)
