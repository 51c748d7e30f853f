"""Where a link may lead: how a redirect is judged, by the address that is then connected to."""

from __future__ import annotations

import ipaddress
import socket
from urllib.parse import urljoin

from ..common.errors import SourceError, UsageError
from .answers import Passing, harmless
from .link import Link, parse_link

MOST_HOPS = 8
_NAME_TRIES = 2
"""A name that is not found is mostly mistyped."""
_ADVICE = "Ask whoever gave you the link, or get the image with a browser and use the file."


def addresses_of(link: Link) -> tuple[str, ...]:
    """Return the addresses of a link's server. Raises Passing where its name is not found."""
    try:
        found = socket.getaddrinfo(link.host, link.port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError) as error:
        why = harmless((error.strerror if isinstance(error, OSError) else None) or str(error))
        raise Passing(f"the name {link.host} is not found ({why})", tries=_NAME_TRIES) from error
    return tuple(dict.fromkeys(str(item[4][0]) for item in found))


def is_local(address: str) -> bool:
    """Tell whether an address belongs to this computer or its own network, or to nobody.

    A name, which only a proxy resolves, is the proxy's to judge.
    """
    try:
        found = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return False
    mapped = getattr(found, "ipv4_mapped", None)
    return not (mapped or found).is_global or found.is_multicast


def redirected(link: Link, location: str, hops: int) -> Link:
    """Return where a server sends us. Raises SourceError for a place that it has no business to send us to."""
    if hops > MOST_HOPS:
        raise SourceError(f"{link.shown}: the server sends on and on, {MOST_HOPS} times so far.", advice=_ADVICE)
    try:
        found = parse_link(urljoin(f"{link.origin}", location.strip()))
    except (UsageError, ValueError) as error:
        raise SourceError(
            f"{link.shown}: the server sends us to a place that is not a link: '{harmless(location)[:80]}'.",
            advice=_ADVICE,
        ) from error
    if found.credentials:
        raise SourceError(f"{link.shown}: the server sends us on with a user name in the link.", advice=_ADVICE)
    if link.scheme == "https" and found.scheme != "https":
        raise SourceError(f"The server leads from https to plain http: {found.shown}.", advice=_ADVICE)
    if found.server == link.server:
        return Link(found.scheme, found.host, found.port, found.path, found.query, link.credentials)
    return found


def refuse_way_inside(link: Link, found: Link, before: tuple[str, ...], after: tuple[str, ...]) -> None:
    """Raise SourceError where a server of the open net sends us into a network of our own."""
    if not all(map(is_local, before)) and any(map(is_local, after)):
        raise SourceError(
            f"{link.shown}: the server sends us into this computer's own network ({found.host}).", advice=_ADVICE
        )
