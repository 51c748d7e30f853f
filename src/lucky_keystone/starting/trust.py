"""What is known of the machine that a drive is to start."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from asn1crypto.x509 import Certificate


@dataclass(frozen=True)
class Machine:
    """The machine at hand, as far as it was described."""

    trusted: Sequence[Certificate] = field(default=())
    """Certificates that its Secure Boot trusts (db); none: not known which."""
    revoked: Sequence[Certificate] = field(default=())
    """Certificates that its Secure Boot refuses (dbx), whoever else signed."""
    model: str = ""
    """A Mac's model, as 'MacBookPro14,1'; '' where none was given."""
    today: date | None = None
    """The day by the clock of the computer that asks; None: not known. A machine's own clock may differ."""


ANY_MACHINE = Machine()
