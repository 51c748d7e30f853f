"""Serial numbers and signatures: derived, never random, so that a build can be repeated and compared."""

from __future__ import annotations

import hashlib

import msgspec

from .. import __version__
from ..planning.plan import Plan


def derive(plan: Plan, purpose: str, size: int) -> bytes:
    """Return `size` bytes (up to 32) for `purpose`, from the plan and its identity word. Never all zero."""
    basis = msgspec.json.encode(
        [
            "lucky-keystone",
            __version__,
            plan.source.fingerprint,
            msgspec.to_builtins(plan.choices),
            plan.drive.size,
            plan.drive.sector_size,
            purpose,
        ],
        order="sorted",
    )
    for attempt in range(256):
        value = hashlib.sha256(basis + bytes((attempt,))).digest()[:size]
        if any(value):
            return value
    raise AssertionError("a hash of zeros 256 times over")


def derive_number(plan: Plan, purpose: str) -> int:
    """Return a 32-bit number for `purpose`, never 0."""
    return int.from_bytes(derive(plan, purpose, 4), "little")
