"""Serial numbers and signatures: derived, never random, so that a build can be repeated and compared."""

from __future__ import annotations

import hashlib
from typing import Any
from uuid import UUID

import msgspec

from .. import __version__
from ..planning.plan import Plan


class DerivedNumbers:
    """The numbers of one drive, all derived from what makes it."""

    def __init__(self, *basis: Any) -> None:
        self._basis = msgspec.json.encode(["lucky-keystone", __version__, *basis], order="sorted")

    def derive(self, purpose: str, size: int) -> bytes:
        """Return `size` bytes (up to 32) for `purpose`. Never all zero."""
        for attempt in range(256):
            value = hashlib.sha256(self._basis + msgspec.json.encode(purpose) + bytes((attempt,))).digest()[:size]
            if any(value):
                return value
        raise AssertionError("a hash of zeros 256 times over")

    def number(self, purpose: str, size: int = 4) -> int:
        """Return a number of `size` bytes for `purpose`, never 0."""
        return int.from_bytes(self.derive(purpose, size), "little")

    def guid(self, purpose: str) -> UUID:
        """Return a GUID for `purpose`."""
        return UUID(bytes=self.derive(purpose, 16), version=4)


def numbers_of(plan: Plan) -> DerivedNumbers:
    """Everything that decides about a drive, its identity word among it."""
    choices = msgspec.to_builtins(plan.choices)
    return DerivedNumbers(plan.source.fingerprint, choices, plan.drive.size, plan.drive.sector_size)
