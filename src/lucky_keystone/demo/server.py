"""The workshop's server: gives the images of a folder on the loopback address, by ranges, and breaks off once."""

from __future__ import annotations

import hashlib
import re
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from ..fetching.catalogue import CatalogueImage, add_image

_PIECE = 64 << 10


class WorkshopServer:
    """Serves until it is closed."""

    def __init__(self, images: dict[str, Path], *, breaks_after: int = 0) -> None:
        """`images` by their names; after `breaks_after` bytes (0: never) of the first answer the connection ends."""
        self._left = breaks_after
        outer = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                outer._answer(self, images.get(self.path.lstrip("/")))

            def log_message(self, format: str, *args: Any) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True).start()

    def link(self, name: str) -> str:
        """Return where an image is."""
        return f"http://localhost:{self._server.server_address[1]}/{name}"

    def close(self) -> None:
        """End."""
        self._server.shutdown()
        self._server.server_close()

    def _answer(self, request: BaseHTTPRequestHandler, path: Path | None) -> None:
        if path is None:
            request.send_error(404)
            return
        size = path.stat().st_size
        match = re.fullmatch(r"bytes=(\d{1,15})-(\d{0,15})", request.headers.get("Range", ""))
        first = int(match.group(1)) if match else 0
        end = min(int(match.group(2) or size) + 1, size) if match else size
        if first >= end:
            request.send_response(416)
            request.send_header("Content-Range", f"bytes */{size}")
            request.send_header("Content-Length", "0")
            request.end_headers()
            return
        request.send_response(206 if match else 200)
        if match:
            request.send_header("Content-Range", f"bytes {first}-{end - 1}/{size}")
        request.send_header("Content-Length", str(end - first))
        request.send_header("ETag", f'"{size}-{path.stat().st_mtime_ns}"')
        request.end_headers()
        breaks_after, self._left = self._left, 0
        stop = min(end, first + breaks_after) if breaks_after else end
        with path.open("rb") as stream:
            stream.seek(first)
            for at in range(first, stop, _PIECE):
                request.wfile.write(stream.read(min(_PIECE, stop - at)))
        if stop < end:
            request.close_connection = True
            request.connection.close()


def write_catalogue(path: Path, updater: Path, link: str) -> None:
    """Write the workshop's catalogue: the ticket printers' updater, and an installer that only a person can get."""
    digest = hashlib.sha256(updater.read_bytes()).hexdigest()
    add_image(
        path,
        CatalogueImage(
            file=updater.name,
            size=updater.stat().st_size,
            sha256=digest,
            release="Ticket printer 4.2",
            architecture="x64",
            urls=[link],
        ),
    )
    add_image(
        path,
        CatalogueImage(
            file="tidewell-12-en-GB-x64.iso",
            size=5_800_000_000,
            sha256=hashlib.sha256(b"not made yet").hexdigest(),
            release="Tidewell 12",
            build="31200.4",
            language="en-GB",
            architecture="x64",
            editions=["Tidewell Counter", "Tidewell Crew"],
            page="https://images.tidewell.example/get",
        ),
    )
