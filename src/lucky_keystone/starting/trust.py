"""What is known of the machine that a drive is to start."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime
from typing import TYPE_CHECKING, Self

from msgspec import Struct, field

if TYPE_CHECKING:
    from asn1crypto.x509 import Certificate

Digest = tuple[str, bytes]
"""Name of a hash function as `hashlib` has it, and its result."""


class RevokedCertificate(Struct, frozen=True):
    """A certificate that is refused by the digest of what its authority signed in it (TBSCertificate)."""

    digest: Digest
    since: datetime | None
    """Signatures that were attested earlier stay good; None: none does."""


class SignatureDatabase(Struct, frozen=True):
    """What Secure Boot allows (db) or refuses (dbx), as far as it was given."""

    certificates: tuple[Certificate, ...] = ()
    digests: frozenset[Digest] = frozenset()
    """Of loaders, by their digest without what signing changes."""
    certificate_digests: tuple[RevokedCertificate, ...] = ()

    @classmethod
    def joined(cls, databases: Iterable[SignatureDatabase]) -> Self:
        """Return everything that several files hold."""
        every = list(databases)
        return cls(
            tuple(one for each in every for one in each.certificates),
            frozenset(one for each in every for one in each.digests),
            tuple(one for each in every for one in each.certificate_digests),
        )


class Machine(Struct, frozen=True):
    """The machine at hand, as far as it was described."""

    trusted: SignatureDatabase | None = None
    """What its Secure Boot allows (db); None: not known."""
    revoked: SignatureDatabase = field(default=SignatureDatabase())
    """What its Secure Boot refuses (dbx), whoever else signed."""
    model: str = ""
    """A Mac's model, as 'MacBookPro14,1'; '' where none was given."""
    board: str = ""
    """A Mac's board id; '' where none was given."""
    today: date | None = None
    """The day by the clock of the computer that asks; None: not known. A machine's own clock may differ."""


ANY_MACHINE = Machine()
