"""What is in a Secure Boot's db or dbx, in short."""

from __future__ import annotations

from msgspec import Struct

from ..starting.generations import GENERATIONS
from ..starting.signature_lists import database_of


class DatabaseSummary(Struct, frozen=True):
    """A db or dbx."""

    size: int
    """Bytes."""
    generations: tuple[str, ...]
    """Of the vendors' certificates that are in it: '2011', '2023'."""
    certificates: tuple[str, ...]
    """Whom they are of, by the common name."""
    digests: int
    """Of loaders and of certificates, that are in it."""


def summary_of(name: str, data: bytes) -> DatabaseSummary:
    """Return what is in the signature lists called `name`. Raises UsageError where they are damaged."""
    read = database_of(name, data)
    names = tuple(
        str(each.subject.native.get("common_name", each.subject.human_friendly)) for each in read.certificates
    )
    generations = tuple(each.name for each in GENERATIONS if set(each.issuers) & set(names))
    return DatabaseSummary(len(data), generations, names, len(read.digests) + len(read.certificate_digests))
