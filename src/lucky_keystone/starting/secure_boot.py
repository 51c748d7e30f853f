"""What Secure Boot makes of loaders: their signatures and digests against what a machine allows and refuses.

As firmware does it (UEFI 2.10, 32.5.3.3): one signature that db's certificates lead to is enough, or the file's digest
in db; one signature that dbx refuses is too much, whoever else signed, and so is the file's digest there. That boot
managers refuse older ones of their own kind by version is their own affair, and not told here.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from functools import cache
from typing import TYPE_CHECKING

from ..boot.records import crossing
from ..content.contents import Literal
from .generations import generations_of, proposed_instead
from .loaders import LoaderState
from .outlook import Verdict
from .trust import Machine, SignatureDatabase

if TYPE_CHECKING:
    from asn1crypto.x509 import Certificate

    from .authenticode import Signature

Judged = tuple[Verdict, str]
"""A verdict and its reason."""
_CROSSING = "the crossing (our UEFI helper)"


@cache
def crossing_state(architecture: str) -> LoaderState:
    """Return our own helper as firmware sees it: without a signature."""
    from .authenticode import unsigned_digest

    digest = unsigned_digest(Literal(crossing(architecture)))
    return LoaderState(_CROSSING, architecture, "", (), digest=digest)


def secure_verdict(loaders: Sequence[LoaderState], machine: Machine) -> Judged:
    """Return the verdict on loaders that start one another; firmware asks for each of them."""
    judged = [_judge(loader, machine) for loader in loaders]
    for verdict in ("will not start", "not known"):
        for one in judged:
            if one[0] == verdict:
                return one
    return judged[-1]


def _judge(loader: LoaderState, machine: Machine) -> Judged:
    refused = _refusal(loader, machine.revoked)
    if refused is not None:
        return refused
    if machine.trusted is not None and (why := _permission(loader, machine.trusted, machine.revoked)):
        return "starts", why
    if not loader.signatures:
        return "will not start", _unsigned(loader, machine)
    sound = [signature for signature in loader.signatures if signature.fits]
    if not sound:
        return "will not start", f"{loader.path}: {loader.signatures[0].why}"
    if machine.trusted is not None:
        return "will not start", f"{_signed(loader, *sound)}; nothing in the db given trusts that"
    usual = generations_of(sound)
    if not usual:
        why = f"{_signed(loader, *sound)}: whether the machine trusts that is unknown (--trust FILE says)"
        return "not known", why
    named = [one for one in sound if any(one.issuer in each.issuers for each in usual)]
    if len(usual) > 1:
        return "starts", f"{_signed(loader, *named)}; machines that trust either of them start it"
    newer = proposed_instead(usual[0], machine.today)
    instead = (
        f"; --loader-signing {newer.name} is the better choice where the source has it: {newer.why}" if newer else ""
    )
    return "starts", f"{_signed(loader, named[0])}; {usual[0].caveat}{instead}"


def _unsigned(loader: LoaderState, machine: Machine) -> str:
    otherwise = ": turn Secure Boot off, or use --file-system fat32+ntfs" if loader.path == _CROSSING else ""
    return f"{loader.path} is unsigned{'' if machine.trusted is None else ', and not in the db given'}{otherwise}"


def _refusal(loader: LoaderState, revoked: SignatureDatabase) -> Judged | None:
    """Return what dbx makes of a loader; None where it has nothing against it."""
    if loader.digest in revoked.digests:
        return "will not start", f"the dbx given refuses {loader.path} by its digest"
    doubtful = None
    for one in loader.signatures:
        if one.led_to(revoked.certificates) is not None:
            return "will not start", f"{_signed(loader, one)}, whose certificate the dbx given refuses"
        for certificate in one.chain:
            judged = _revoked_by_digest(loader, one, certificate, revoked)
            if judged is not None and judged[0] == "will not start":
                return judged
            doubtful = doubtful or judged
        if one.digest in revoked.digests:
            return "will not start", f"the dbx given refuses {loader.path} by its digest"
    return doubtful


def _revoked_by_digest(
    loader: LoaderState, signature: Signature, certificate: Certificate, revoked: SignatureDatabase
) -> Judged | None:
    """Return what dbx makes of a certificate by its digest, with the moment from which on it does."""
    signed = certificate["tbs_certificate"].dump()
    for entry in revoked.certificate_digests:
        name, digest = entry.digest
        if hashlib.new(name, signed).digest() != digest:
            continue
        if entry.since is not None and signature.attested is not None and signature.attested < entry.since:
            why = (
                f"the dbx given spares signatures from before {entry.since:%Y-%m-%d} where who attested that is trusted"
            )
            return "not known", f"{_signed(loader, signature)}: {why}"
        return "will not start", f"{_signed(loader, signature)}, whose certificate the dbx given refuses"
    return None


def _permission(loader: LoaderState, trusted: SignatureDatabase, revoked: SignatureDatabase) -> str:
    """Return why db allows a loader; '' where it does not."""
    if loader.digest in trusted.digests or any(one.digest in trusted.digests for one in loader.signatures):
        return f"the db given allows {loader.path} by its digest"
    for one in loader.signatures:
        above = one.led_to(trusted.certificates) if one.fits else None
        if above is not None and _revoked_by_digest(loader, one, above, revoked) is None:
            return f"{_signed(loader, one)}, which the db given trusts"
    return ""


def _signed(loader: LoaderState, *signatures: Signature) -> str:
    by = " and ".join(f"by '{one.signer}' under '{one.issuer}'" for one in signatures)
    return f"{loader.path} is signed {by}"
