"""Measures `fetch` and building from a link, beside an independent client and beside the file, in the same run.

    python bench/fetching.py [FOLDER] [--gigabytes 1] [--rounds 3] [--line-megabytes 500]

A server on the loopback address (a process of its own, TLS under an authority of its own) sends an incompressible
installer. In turns: `curl` with its bytes summed on the way and written, and `fetch`; then `build` from the file, with
and without its sum, and from the link (plain http, so that the server costs little), whose sum is always taken. Then
the server is held to 100 Mbit/s, and the writing stage is compared with the line's own time; with --line-megabytes
5000 that takes 7 minutes. Needs curl and openssl.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import re
import ssl
import statistics
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from multiprocessing import Process
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent))
from run import PROGRAM, Run, forget, make_source, run

_PORT, _PLAIN_PORT, _SLOW_PORT, _LINE = 28443, 28445, 28444, 100_000_000 // 8
_SUMMED = """
import hashlib, os, subprocess, sys
child = subprocess.Popen(["curl", "--silent", "--cacert", sys.argv[1], sys.argv[2]], stdout=subprocess.PIPE)
digest, out = hashlib.sha256(), os.open(sys.argv[3], os.O_RDWR | os.O_CREAT | os.O_TRUNC)
while piece := child.stdout.read(1 << 20):
    digest.update(piece)
    os.write(out, piece)
os.fsync(out)
assert child.wait() == 0 and digest.hexdigest() == sys.argv[4]
"""


def serve(folder: Path, port: int, line: int) -> None:
    """Serve the files of a folder until killed; `line` is in bytes a second, 0 for as fast as it can."""

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            path = folder / Path(self.path).name
            size = path.stat().st_size
            match = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("Range", ""))
            first = int(match.group(1)) if match else 0
            end = min(int(match.group(2) or size) + 1, size) if match else size
            self.send_response(206 if match else 200)
            if match:
                self.send_header("Content-Range", f"bytes {first}-{end - 1}/{size}")
            self.send_header("Content-Length", str(end - first))
            self.send_header("ETag", '"bench"')
            self.end_headers()
            began, sent = time.monotonic(), 0
            with path.open("rb") as stream, suppress(OSError):
                stream.seek(first)
                while sent < end - first:
                    piece = stream.read(min(1 << 20 if not line else 1 << 16, end - first - sent))
                    self.wfile.write(piece)
                    sent += len(piece)
                    if line and (ahead := sent / line - (time.monotonic() - began)) > 0:
                        time.sleep(ahead)

        def log_message(self, *_words: Any) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", port), Handler)
    if port == _PLAIN_PORT:
        server.serve_forever()
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(folder / "server.pem", folder / "server.key")
    server.socket = context.wrap_socket(server.socket, server_side=True)
    server.serve_forever()


def make_certificates(folder: Path) -> None:
    def openssl(*words: str) -> None:
        subprocess.run(["openssl", *words], cwd=folder, check=True, capture_output=True)

    new = ["-newkey", "rsa:2048", "-nodes", "-days", "30"]
    authority = ["-subj", "/CN=Bench", "-addext", "basicConstraints=critical,CA:TRUE"]
    openssl("req", "-x509", *new, "-keyout", "authority.key", "-out", "authority.pem", *authority)
    openssl("req", *new[:3], "-keyout", "server.key", "-out", "server.csr", "-subj", "/CN=localhost")
    (folder / "names").write_text("subjectAltName=DNS:localhost")
    by = ["-CA", "authority.pem", "-CAkey", "authority.key", "-CAcreateserial", "-extfile", "names"]
    openssl("x509", "-req", "-in", "server.csr", *by, "-days", "30", "-out", "server.pem")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", nargs="?", type=Path, default=Path(tempfile.gettempdir()) / "lucky-keystone-bench")
    parser.add_argument("--gigabytes", type=float, default=1.0)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--line-megabytes", type=int, default=500)
    given = parser.parse_args()
    given.folder.mkdir(parents=True, exist_ok=True)
    os.environ["LUCKY_KEYSTONE_STORE"] = str(given.folder / "store")
    os.environ["LUCKY_KEYSTONE_LOG"] = "off"
    fast, slow = given.folder / "fetch.iso", given.folder / "line.iso"
    for disc, size in ((fast, int(given.gigabytes * 1e9)), (slow, given.line_megabytes * 1_000_000)):
        disc.unlink(missing_ok=True)
        make_source(disc, size, integrity=False)
    make_certificates(given.folder)
    servers = [
        Process(target=serve, args=(given.folder, port, line), daemon=True)
        for port, line in ((_PORT, 0), (_PLAIN_PORT, 0), (_SLOW_PORT, _LINE))
    ]
    for server in servers:
        server.start()
    time.sleep(1)
    try:
        on_loopback(given.folder, fast, given.rounds)
        over_a_line(given.folder, slow)
    finally:
        for server in servers:
            server.kill()


def on_loopback(folder: Path, disc: Path, rounds: int) -> None:
    link, trusted = f"https://localhost:{_PORT}/{disc.name}", ["--authority", str(folder / "authority.pem")]
    plain = f"http://localhost:{_PLAIN_PORT}/{disc.name}"
    digest = sum_of(disc)
    made, drive = folder / "fetched.bin", folder / "drive.img"
    curl = [sys.executable, "-c", _SUMMED, str(folder / "authority.pem"), link, str(made), digest]
    fetch = [*PROGRAM, "fetch", link, "--into", str(made), "--sha256", digest, *trusted, "-q"]
    onto = ["--onto", str(drive), "--yes", "-q"]
    steps = {
        "curl": curl,
        "fetch": fetch,
        "build from the file": [*PROGRAM, "build", str(disc), *onto],
        "build from the file, with its sum": [*PROGRAM, "build", str(disc), "--sha256", digest, *onto],
        "build from the link": [*PROGRAM, "build", plain, "--sha256", digest, *onto],
    }
    rows: dict[str, list[Run]] = {name: [] for name in steps}
    for number in range(rounds + 1):
        for name in steps if number % 2 else reversed(steps):
            made.unlink(missing_ok=True)
            drive.unlink(missing_ok=True)
            forget(disc)
            taken = run(steps[name])
            if number:  # the first touch of a disk's places costs more on some machines
                rows[name].append(taken)
    size = disc.stat().st_size
    for name, found in rows.items():
        seconds, peak = statistics.median(each.seconds for each in found), max(each.peak for each in found) >> 20
        print(f"{name:34}{seconds:7.2f} s{size / seconds / 1e6:8.0f} MB/s, peak {peak} MiB")
    for one, other, claim in (
        ("curl", "fetch", ">= 0.90"),
        ("build from the link", "build from the file, with its sum", "<= 1.20"),
        ("build from the link", "build from the file", "nothing: its sum is not taken"),
    ):
        ratios = [a.seconds / b.seconds for a, b in zip(rows[one], rows[other], strict=True)]
        print(f"{one} / {other}: median {statistics.median(ratios):.2f}; claimed {claim}")
    for path in (made, drive):
        path.unlink(missing_ok=True)


def over_a_line(folder: Path, disc: Path) -> None:
    link, drive = f"https://localhost:{_SLOW_PORT}/{disc.name}", folder / "drive.img"
    line = [*PROGRAM, "build", link, "--sha256", sum_of(disc), "--authority", str(folder / "authority.pem")]
    done = subprocess.run([*line, "--onto", str(drive), "--yes", "--json"], check=True, capture_output=True, text=True)
    writing = json.loads(done.stdout)["result"]["writing_seconds"]
    alone = disc.stat().st_size / _LINE
    shown = f"writing {writing:.1f} s, the line alone {alone:.1f} s"
    print(f"over 100 Mbit/s: {shown}: {writing / alone:.3f}; claimed <= 1.03")
    drive.unlink()


def sum_of(path: Path) -> str:
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


if __name__ == "__main__":
    main()
