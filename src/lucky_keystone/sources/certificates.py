"""Until when installer packages can be trusted: by the certificates in their own signatures.

An installer whose certificates have expired refuses to run under a correct clock. Nothing here knows what day it is.
"""

from __future__ import annotations

import base64
from collections.abc import Iterable, Iterator
from datetime import date
from itertools import islice

from ..common.errors import KeystoneError
from ..content.contents import Seekable
from .xar import XarArchive, is_xar

PACKAGES = "Packages"
"""The folder with an installer's packages, in the root of their volume."""
_LOOKED_AT = 24
"""Packages; each has the same certificates as the next."""


def is_package(name: str) -> bool:
    """True for the name of a flat package."""
    return name.lower().endswith(".pkg")


def certified_until(packages: Iterable[Seekable]) -> date | None:
    """Return the day on which the first certificate of a package ends; None where none was found."""
    found: list[date] = []
    for content in islice(packages, _LOOKED_AT):
        try:
            if is_xar(content):
                found += _ends(XarArchive(content, "package"))
        except KeystoneError:
            continue
    return min(found, default=None)


def _ends(archive: XarArchive) -> Iterator[date]:
    """Yield when each certificate of a package's signature ends."""
    from asn1crypto.x509 import Certificate

    for text in archive.certificates:
        try:
            certificate = Certificate.load(base64.b64decode("".join(text.split())))
            yield certificate["tbs_certificate"]["validity"]["not_after"].native.date()
        except (ValueError, TypeError, AttributeError, LookupError, OverflowError, RecursionError):
            continue
