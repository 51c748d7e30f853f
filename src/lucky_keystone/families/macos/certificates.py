"""How long an installer's packages can be trusted: by the certificates in their own signatures.

An installer whose certificates have expired refuses to run under a correct clock. Nothing here knows what day it is.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterator, Sequence
from datetime import date
from functools import lru_cache

from ...content import seekable
from ...errors import KeystoneError
from ...sources.xar import XarArchive, is_xar
from ...tree import File
from .payload import Payload

_PACKAGES = "Packages"
_LOOKED_AT = 24
"""Packages; each has the same certificates as the next."""


@lru_cache(maxsize=4)
def valid_until(payload: Payload) -> date | None:
    """Return the day on which the first certificate of a package ends; None where none was found."""
    found: list[date] = []
    for file in _packages(payload):
        try:
            content = seekable(file.content)
            if is_xar(content):
                found += _ends(XarArchive(content, file.name))
        except KeystoneError:
            continue
    return min(found, default=None)


def _packages(payload: Payload) -> Sequence[File]:
    try:
        volume = payload.packages.volume if payload.packages is not None else None
        files = list(volume.beside(f"{_PACKAGES}/x")) if volume is not None else []
    except KeystoneError:
        return ()
    return [file for file in files if file.name.lower().endswith(".pkg")][:_LOOKED_AT]


def _ends(archive: XarArchive) -> Iterator[date]:
    """Yield when each certificate of a package's signature ends."""
    from asn1crypto.x509 import Certificate

    for text in archive.certificates:
        try:
            certificate = Certificate.load(base64.b64decode("".join(text.split())))
            yield certificate["tbs_certificate"]["validity"]["not_after"].native.date()
        except (ValueError, TypeError, AttributeError, KeyError, binascii.Error):
            continue
