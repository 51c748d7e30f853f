"""A server on the loopback address that behaves as badly as one likes."""

from __future__ import annotations

import re
import ssl
import subprocess
import threading
import time
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, Self

from ..helpers.judges import need


@dataclass
class Served:
    """A file, and how it is served."""

    data: bytes
    tag: str = '"first"'
    changed: str = "Mon, 02 Nov 2026 10:00:00 GMT"
    ranges: bool = True
    cuts: list[int] = field(default_factory=list)
    """Bytes after which each of the first connections is cut."""
    later: tuple[int, int] | None = None
    """After so many bytes, this status is all that is answered."""
    answers: list[int | tuple[int, dict[str, str]]] = field(default_factory=list)
    """What the first requests are answered instead: a status, and headers."""
    kind: str = "application/octet-stream"
    coding: str = ""
    tells_length: bool = True
    off_by: int = 0
    """How far behind what was asked for a range begins."""
    whole: int | None = None
    """What Content-Range says of the whole."""
    location: str = ""
    ignores_if_range: bool = False
    pause: float = 0.0
    """Seconds before each 64 KiB of every connection."""
    most: int = 99
    """How many answers are given at the same time; one more gets 503."""
    busy: int = 0
    drips_at: int | None = None
    """From here on the first answer that comes so far comes byte by byte."""
    stalls_at: int | None = None
    becomes: tuple[int, bytes, str] | None = None
    """After so many bytes, these are the file and its tag."""
    asked: list[tuple[int, int]] = field(default_factory=list)
    """First and last byte of each answer that was begun."""
    headers: list[dict[str, str]] = field(default_factory=list)
    sent: int = 0


class Server:
    """Serves files by path; with `tls`, under an authority of its own."""

    def __init__(self, folder: Path, *, tls: bool = False) -> None:
        self.files: dict[str, Served] = {}
        outer = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                outer.answer(self)

            def log_message(self, *_words: Any) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        self.authority = folder / "authority.pem"
        if tls:
            self._make_certificates(folder)
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            context.load_cert_chain(folder / "server.pem", folder / "server.key")
            self._server.socket = context.wrap_socket(self._server.socket, server_side=True)
        self.scheme = "https" if tls else "http"
        self.port = self._server.server_address[1]

    def __enter__(self) -> Self:
        threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self._server.shutdown()
        self._server.server_close()

    def link(self, path: str, host: str = "localhost") -> str:
        return f"{self.scheme}://{host}:{self.port}{path}"

    def answer(self, request: BaseHTTPRequestHandler) -> None:
        served = self.files.get(request.path.partition("?")[0])
        if served is None:
            request.send_error(404)
            return
        served.headers.append({name.lower(): value for name, value in request.headers.items()})
        if served.answers:
            other = served.answers.pop(0)
            status, headers = other if isinstance(other, tuple) else (other, {})
            self._begin(request, status, {"Content-Length": "0", **headers})
            return
        if served.busy >= served.most:
            self._begin(request, 503, {"Content-Length": "0"})
            return
        served.busy += 1
        try:
            self._give(request, served)
        finally:
            served.busy -= 1

    def _give(self, request: BaseHTTPRequestHandler, served: Served) -> None:
        if served.later is not None and served.sent >= served.later[0]:
            self._begin(request, served.later[1], {"Content-Length": "0"})
            return
        if served.becomes is not None and served.sent >= served.becomes[0]:
            _, served.data, served.tag = served.becomes
        data, first, last = served.data, 0, len(served.data) - 1
        if request.headers.get("If-Match", served.tag) != served.tag:
            self._begin(request, 412, {"Content-Length": "0"})
            return
        status = 200
        match = re.fullmatch(r"bytes=(\d+)-(\d*)", request.headers.get("Range", ""))
        condition = request.headers.get("If-Range", "")
        fits = served.ignores_if_range or not condition or condition in (served.tag, served.changed)
        if match and served.ranges and fits:
            first = int(match.group(1)) + served.off_by
            last = min(int(match.group(2) or last), last)
            if first > last:
                self._begin(request, 416, {"Content-Range": f"bytes */{len(data)}", "Content-Length": "0"})
                return
            status = 206
        headers = {"Content-Type": served.kind, "ETag": served.tag, "Last-Modified": served.changed}
        if served.tells_length:
            headers["Content-Length"] = str(last + 1 - first)
        else:
            headers["Connection"] = "close"
        if served.coding:
            headers["Content-Encoding"] = served.coding
        if status == 206:
            whole = len(data) if served.whole is None else served.whole
            headers["Content-Range"] = f"bytes {first}-{last}/{whole}"
        self._begin(request, status, {name: value for name, value in headers.items() if value})
        served.asked.append((first, last))
        until = min(last + 1, first + served.cuts.pop(0)) if served.cuts else last + 1
        try:
            for at in range(first, until, 1 << 16):
                if served.stalls_at is not None and at >= served.stalls_at:
                    time.sleep(1)
                if served.drips_at is not None and at >= served.drips_at:
                    served.drips_at = None
                    for place in range(at, at + 200):
                        request.wfile.write(data[place : place + 1])
                        time.sleep(0.1)
                    break
                time.sleep(served.pause)
                piece = data[at : min(at + (1 << 16), until)]
                request.wfile.write(piece)
                served.sent += len(piece)
        except OSError:
            pass
        if until <= last or not served.tells_length:
            request.close_connection = True
            request.wfile.flush()
            request.connection.close()

    @staticmethod
    def _begin(request: BaseHTTPRequestHandler, status: int, headers: dict[str, str]) -> None:
        request.send_response(status)
        for name, value in headers.items():
            request.send_header(name, value)
        request.end_headers()

    def _make_certificates(self, folder: Path) -> None:
        def openssl(*words: str) -> None:
            subprocess.run([need("openssl"), *words], cwd=folder, check=True, capture_output=True)

        subject = ["-subj", "/CN=Tidewell Network Authority", "-addext", "basicConstraints=critical,CA:TRUE"]
        new = ["-newkey", "rsa:2048", "-nodes", "-days", "30"]
        openssl("req", "-x509", *new, "-keyout", "authority.key", "-out", "authority.pem", *subject)
        openssl("req", *new[:3], "-keyout", "server.key", "-out", "server.csr", "-subj", "/CN=localhost")
        (folder / "names").write_text("subjectAltName=DNS:localhost")
        by = ["-CA", "authority.pem", "-CAkey", "authority.key", "-CAcreateserial", "-extfile", "names"]
        openssl("x509", "-req", "-in", "server.csr", *by, "-days", "30", "-out", "server.pem")
