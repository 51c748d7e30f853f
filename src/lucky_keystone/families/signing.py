"""Who signed the UEFI loaders of a source, for whoever looks at it."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

from ..sources.source import Source
from ..starting.generations import generation_of
from ..starting.loaders import examine_file
from .facts import Loader


class LoaderSignature(Struct, frozen=True):
    """A signature of a loader; a loader without one has none."""

    path: str
    signer: str
    issuer: str
    generation: str
    """Of the vendor's certificates: '2011', '2023'; '' for others."""
    fault: str
    """Why it does not fit; '' where it does."""


def loader_signatures(source: Source, loaders: Iterable[Loader]) -> tuple[LoaderSignature, ...]:
    """Read the signatures of UEFI loaders, in their order."""
    found: list[LoaderSignature] = []
    for loader in loaders:
        file = source.root.find_file(loader.path) if loader.firmware == "uefi" and loader.architecture else None
        if file is None:
            continue
        for one in examine_file(loader.path, file).signatures:
            known = generation_of(one.issuer)
            name = known.name if known is not None else ""
            found.append(LoaderSignature(loader.path, one.signer, one.issuer, name, one.why))
    return tuple(found)
