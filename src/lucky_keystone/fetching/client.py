"""Connections to servers: one request at a time, redirects judged one by one, headers and waiting bounded."""

from __future__ import annotations

import base64
import ssl
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, Protocol
from urllib.request import getproxies, proxy_bypass

import truststore
import urllib3
from msgspec import Struct
from urllib3.util import Timeout

from ..common.errors import SourceError, UsageError
from .answers import Answer, Passing, harmless
from .link import Link
from .places import addresses_of, redirected, refuse_way_inside

STALL = 20.0
"""Seconds without a byte after which a connection is given up."""
_CONNECT = 20.0
_MOST_HEADERS = 64 << 10
_REDIRECTS = (301, 302, 303, 307, 308)
_PIECE = 256 << 10
_SLOWEST = 120.0
"""Seconds that a read of up to 256 KiB may take: 2 KiB a second."""


class Client(Protocol):
    """Asks servers for bytes."""

    def get(self, link: Link, headers: Mapping[str, str]) -> tuple[Answer, Link]:
        """Return an answer, and the link that gave it in the end. Raises Passing or SourceError."""

    def close(self) -> None:
        """Drop all connections."""


class HttpClient:
    """Over the net, TLS verified by the system's authorities or a shop's own; that cannot be switched off."""

    def __init__(
        self, authority: Path | None = None, *, resolve: Callable[[Link], tuple[str, ...]] = addresses_of
    ) -> None:
        """`authority` is a PEM file with the certificates that are trusted beside the system's. Raises UsageError."""
        self._context: ssl.SSLContext = truststore.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        if authority is not None:
            self._context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
            self._context.load_default_certs()
            try:
                self._context.load_verify_locations(cafile=str(authority))
            except (OSError, ssl.SSLError) as error:
                raise UsageError(
                    f"{authority}: no certificate of an authority can be read.", advice="Use a PEM file."
                ) from error
        self._context.minimum_version = ssl.TLSVersion.TLSv1_2
        self._resolve = resolve
        self._watch = _Watch()
        self._pools: dict[tuple[object, ...], urllib3.HTTPConnectionPool] = {}

    def get(self, link: Link, headers: Mapping[str, str]) -> tuple[Answer, Link]:
        here, addresses, hops = link, self._addresses(link), 0
        while True:
            answer = self._ask(here, addresses, headers)
            if answer.status not in _REDIRECTS or "location" not in answer.headers:
                return answer, here
            answer.body.close()
            hops += 1
            there = redirected(here, answer.headers["location"], hops)
            reached = self._addresses(there)
            refuse_way_inside(here, there, addresses, reached)
            here, addresses = there, reached

    def close(self) -> None:
        self._watch.close()
        for pool in self._pools.values():
            pool.close()
        self._pools.clear()

    def _addresses(self, link: Link) -> tuple[str, ...]:
        """Return where to connect to; behind a proxy the name itself, which only the proxy may be able to find."""
        return (link.host,) if _proxy_for(link) else self._resolve(link)

    def _ask(self, link: Link, addresses: tuple[str, ...], headers: Mapping[str, str]) -> Answer:
        # What is coded on the way has no ranges.
        sent = {"User-Agent": "lucky-keystone", "Accept": "*/*", "Accept-Encoding": "identity", **headers}
        sent["Host"] = link.authority
        if link.credentials:
            sent["Authorization"] = "Basic " + base64.b64encode(link.credentials.encode()).decode()
        error: Passing | None = None
        for address in addresses:
            try:
                return self._open(link, address, sent)
            except Passing as failed:  # the next of its addresses may answer
                error = failed
        assert error is not None
        raise error

    def _open(self, link: Link, address: str, headers: Mapping[str, str]) -> Answer:
        pool, target = self._pool(link, address)
        try:
            response = pool.urlopen(
                "GET",
                target,
                headers=dict(headers),
                retries=False,
                redirect=False,
                preload_content=False,
                decode_content=False,
                timeout=Timeout(connect=_CONNECT, read=STALL),
                assert_same_host=target == link.target,
            )
        except urllib3.exceptions.HTTPError as failed:
            raise _failure(link, failed) from failed
        if sum(len(name) + len(value) for name, value in response.headers.items()) > _MOST_HEADERS:
            response.close()
            raise SourceError(f"{link.shown}: the server's headers are too long.", advice="Use another link.")
        named = {name.lower(): value for name, value in response.headers.items()}
        return Answer(response.status, named, _Body(response, link, self._watch))

    def _pool(self, link: Link, address: str) -> tuple[urllib3.HTTPConnectionPool, str]:
        """Return connections to this very address, which was judged; or to the proxy that is in between."""
        proxy = _proxy_for(link)
        key = (link.server, address, proxy)
        pool = self._pools.get(key)
        common: dict[str, Any] = {"maxsize": 4}
        if link.scheme == "https":
            common["ssl_context"] = self._context
        if proxy:
            if pool is None:
                manager = urllib3.ProxyManager(proxy, **common)
                pool = self._pools[key] = manager.connection_from_host(link.host, link.port, link.scheme)
            return pool, link.target if link.scheme == "https" else f"{link.origin}{link.target[len(link.path) :]}"
        if pool is None:
            if link.scheme == "https":
                common["server_hostname"] = link.host
                pool = urllib3.HTTPSConnectionPool(address, link.port, **common)
            else:
                pool = urllib3.HTTPConnectionPool(address, link.port, **common)
            self._pools[key] = pool
        return pool, link.target


def _proxy_for(link: Link) -> str:
    """Return the proxy that the environment or the system names for a link; '' for none."""
    return "" if proxy_bypass(link.host) else getproxies().get(link.scheme, "")


class _Body:
    def __init__(self, response: urllib3.BaseHTTPResponse, link: Link, watch: _Watch) -> None:
        self._response, self._link, self._watch = response, link, watch

    def read(self, size: int) -> bytes:
        with self._watch.over(self._response) as watched:
            try:
                data = self._response.read(min(size, _PIECE))
            except (urllib3.exceptions.HTTPError, OSError, ValueError) as failed:
                if not watched.is_too_slow:
                    raise _failure(self._link, failed) from failed
                data = b""
        if watched.is_too_slow:
            raise Passing("hardly anything came for two minutes")
        return data

    def close(self) -> None:
        # What is left of an answer is not worth reading; the connection goes with it.
        self._response.close()


class _Reading(Struct, eq=False):
    """A read that waits for its bytes."""

    response: urllib3.BaseHTTPResponse
    since: float
    is_too_slow: bool = False


class _Watch:
    """Ends reads that a server draws out byte by byte: none of them stalls, and none ever comes to its end."""

    def __init__(self) -> None:
        self._readings: set[_Reading] = set()
        self._lock = threading.Lock()
        self._closed = threading.Event()
        self._thread: threading.Thread | None = None

    @contextmanager
    def over(self, response: urllib3.BaseHTTPResponse) -> Iterator[_Reading]:
        """Watch over the read in the block."""
        reading = _Reading(response, time.monotonic())
        with self._lock:
            self._readings.add(reading)
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, name="watch", daemon=True)
                self._thread.start()
        try:
            yield reading
        finally:
            with self._lock:
                self._readings.discard(reading)

    def close(self) -> None:
        """Watch no longer."""
        self._closed.set()

    def _run(self) -> None:
        while not self._closed.wait(_SLOWEST / 10):
            with self._lock:
                late = [each for each in self._readings if time.monotonic() - each.since > _SLOWEST]
                for reading in late:
                    reading.is_too_slow = True
                    with suppress(OSError, ValueError, RuntimeError):  # it has just ended by itself
                        reading.response.shutdown()


def _failure(link: Link, error: BaseException) -> Passing | SourceError:
    """Return what a failed connection means."""
    reasons: list[BaseException] = []
    cause: BaseException | None = error
    while cause is not None and len(reasons) < 10:
        reasons.append(cause)
        cause = cause.__cause__ or cause.__context__
    for reason in reasons:
        if isinstance(reason, ssl.SSLCertVerificationError):
            why = harmless(reason.verify_message or "unknown")
            return SourceError(
                f"The certificate of {link.host} is not trusted ({why}).",
                advice="Is this computer's clock right, is a filter in between? A shop's own authority is named with "
                "--authority FILE.",
            )
        if isinstance(reason, urllib3.exceptions.ReadTimeoutError | TimeoutError):
            return Passing(f"no byte came for {STALL:.0f} seconds")
        if isinstance(reason, urllib3.exceptions.ConnectTimeoutError | ConnectionRefusedError):
            return Passing("the server does not accept a connection")
        if isinstance(reason, urllib3.exceptions.IncompleteRead):
            return Passing("the connection ended early")
        if isinstance(reason, ssl.SSLError):
            return Passing(f"the encrypted connection failed ({harmless(reason.reason or str(reason))})")
    return Passing(f"the connection broke ({harmless(str(reasons[-1]))})")
