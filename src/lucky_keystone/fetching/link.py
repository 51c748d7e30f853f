"""A link to an image: taken apart once, and never shown with what only its owner should know."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable
from pathlib import Path, PurePosixPath
from urllib.parse import SplitResult, unquote, urlsplit

from msgspec import Struct

from ..common.errors import UsageError

_LONGEST = 8192
_LONGEST_NAME = 200  # bytes
_PORTS = {"https": 443, "http": 80}
_DEVICES = re.compile(r"(con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³])(\..*)?", re.IGNORECASE)
_UNFINISHED = re.compile(r"\.(part|partial|crdownload|download|opdownload|!ut|aria2)$", re.IGNORECASE)
_HIDDEN = "…"
_ADVICE = "A link begins with https:// and the name of a server."


class Link(Struct, frozen=True):
    """Where an image is available."""

    scheme: str
    host: str
    port: int
    path: str
    query: str
    credentials: str
    """User and password, as 'USER:PASSWORD'; '' for none."""

    def __str__(self) -> str:
        return self.shown

    def __repr__(self) -> str:
        return f"Link({self.shown})"  # nothing secret in logs

    @property
    def target(self) -> str:
        """What is asked for on the server."""
        return self.path + (f"?{self.query}" if self.query else "")

    @property
    def origin(self) -> str:
        """Scheme, server and path, without anything that may be secret: for journals and records."""
        return f"{self.scheme}://{self.authority}{self.path}"

    @property
    def authority(self) -> str:
        """Server and port as they are written in links and in the Host header."""
        port = "" if self.port == _PORTS[self.scheme] else f":{self.port}"
        return (f"[{self.host}]" if ":" in self.host else self.host) + port

    @property
    def shown(self) -> str:
        """The same for people; '…' stands for what is left out."""
        before, sign, behind = self.origin.partition("://")
        user = f"{_HIDDEN}@" if self.credentials else ""
        return f"{before}{sign}{user}{behind}" + (f"?{_HIDDEN}" if self.query else "")

    @property
    def server(self) -> tuple[str, str, int]:
        """Whom credentials are for."""
        return self.scheme, self.host, self.port

    @property
    def name(self) -> str:
        """What the image is called: the last part of the path, or the server where that is not a name."""
        return self.file_name or self.host

    @property
    def stem(self) -> str:
        """The name without its extension."""
        return PurePosixPath(self.name).stem

    @property
    def file_name(self) -> str:
        """The last part of the path, as a plain file name; '' where it is not one."""
        name = unquote(self.path.rpartition("/")[2])
        return name if is_plain_name(name) else ""


Place = Path | Link
"""Where a source is: on this computer, or on a server."""


def is_link(text: str) -> bool:
    """Tell whether something on a command line is a link, and not a path."""
    return re.match(r"https?://", text, re.IGNORECASE) is not None


def refuse_unproven(link: Link, sha256: str) -> None:
    """Raise UsageError for plain http without a sum: nothing would prove what comes."""
    if link.scheme == "http" and not sha256:
        raise UsageError(
            f"{link.shown}: plain http proves nothing of what comes.",
            advice="Use an https link, or give the image's sum with --sha256.",
        )


def place_of(text: str) -> Place:
    """Return where a source is that was named on a command line or in a plan. Raises UsageError."""
    return parse_link(text) if is_link(text) else Path(text)


def lasting(place: Place) -> str:
    """Return a place as it is kept in a plan: a path from the root on, a link without anything secret."""
    return place.origin if isinstance(place, Link) else str(place.resolve())


def parse_link(text: str) -> Link:
    """Take a link apart. Raises UsageError, which never shows what may be secret."""
    if len(text) > _LONGEST or any(unicodedata.category(sign)[0] == "C" or sign.isspace() for sign in text):
        raise UsageError("The link has a blank or a control character in it, or is too long.", advice=_ADVICE)
    try:
        parts = urlsplit(text)
        port = parts.port
        host = (parts.hostname or "").encode("idna" if not (parts.hostname or "").isascii() else "ascii").decode()
    except ValueError as error:  # an invalid port, brackets that do not close, an invalid name
        raise UsageError("The link cannot be read: server or port are invalid.", advice=_ADVICE) from error
    scheme = parts.scheme.lower()
    if scheme not in _PORTS:
        raise UsageError(f"'{scheme}:' is not supported for images.", advice=_ADVICE)
    if not host:
        raise UsageError("The link names no server.", advice=_ADVICE)
    return Link(scheme, host, port or _PORTS[scheme], _quoted(parts.path) or "/", _quoted(parts.query), _user(parts))


def _user(parts: SplitResult) -> str:
    if parts.username is None:
        return ""
    return f"{unquote(parts.username)}:{unquote(parts.password or '')}"


def _quoted(text: str) -> str:
    """Return a part of a link with everything beyond ASCII as percent signs; what is quoted already stays."""
    return "".join(
        sign if sign.isascii() else "".join(f"%{byte:02X}" for byte in sign.encode("utf-8", "surrogatepass"))
        for sign in text
    )


def is_foreign_part(name: str) -> bool:
    """Tell by a file's name whether another program has not finished it."""
    return _UNFINISHED.search(name) is not None


def final_name(name: str) -> str:
    """Return a file's name without the extension that marks it as unfinished."""
    return _UNFINISHED.sub("", name)


def is_plain_name(name: str) -> bool:
    """Tell whether this can be a file's name in any folder of any system: no path, no device, nothing hidden in it."""
    return (
        0 < len(name.encode("utf-8", "surrogatepass")) <= _LONGEST_NAME
        and not any(sign in '/\\:*?"<>|' or unicodedata.category(sign)[0] == "C" for sign in name)
        and name not in (".", "..")
        and name == name.strip()
        and not name.endswith(".")
        and _DEVICES.fullmatch(name) is None
    )


def without_secrets(words: Iterable[str]) -> list[str]:
    """Return the words of a command as they are shown: links without what may be secret in them."""
    return [parse_link(word).shown if is_link(word) else word for word in words]
