"""Measures what is claimed of real drives, on loop devices, beside dd with the same bytes in the same run.

    sudo python bench/devices.py [FOLDER] [--gigabytes 2] [--rounds 4]

Needs the right to make loop devices, and room for the source and four drives. Pairs take turns. dd is timed as a whole,
of the program what it says itself of writing, reading back and comparing; what is around that (starting up, planning,
guards, the check at the end) is a line of its own, the same for any size. Peak memory is the operating system's own
figure; bytes read from the source are counted by the kernel (/proc/PID/io), with reading back left out.
"""

from __future__ import annotations

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from run import PROGRAM, forget, make_source

CLAIMS = (("write", "dd write", 1.10), ("read back", "dd read", 1.10), ("quick update", "dd read", 1.00))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", nargs="?", type=Path, default=Path(tempfile.gettempdir()) / "lucky-keystone-devices")
    parser.add_argument("--gigabytes", type=float, default=2.0)
    parser.add_argument("--rounds", type=int, default=4)
    given = parser.parse_args()
    os.environ["LUCKY_KEYSTONE_LOG"] = "off"
    given.folder.mkdir(parents=True, exist_ok=True)
    disc = given.folder / "source.iso"
    if not disc.exists():
        make_source(disc, int(given.gigabytes * 1e9), integrity=False)
    size = disc.stat().st_size
    files = [given.folder / f"drive{number}.img" for number in range(4)]
    devices = [attach(file, (size // (1 << 20) + 96) << 20) for file in files]
    try:
        measure(disc, devices, files, given.rounds)
    finally:
        for device in devices:
            subprocess.run(["partx", "--delete", device], check=False, capture_output=True)
            subprocess.run(["losetup", "--detach", device], check=False)
        for file in files:
            file.unlink()


def attach(file: Path, size: int) -> str:
    """Make a loop device over a file that is written out once, so that no run meets an unstored place."""
    subprocess.run(
        ["dd", "if=/dev/zero", f"of={file}", "bs=4M", f"count={size >> 22}", "conv=fsync"],
        check=True,
        capture_output=True,
    )
    command = ["losetup", "--find", "--show", "--direct-io=on", str(file)]
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout.strip()


def measure(disc: Path, devices: list[str], files: list[Path], rounds: int) -> None:
    rows: dict[str, list[float]] = {}
    size = disc.stat().st_size
    device = devices[0]

    def note(name: str, seconds: float) -> None:
        rows.setdefault(name, []).append(seconds)
        print(f"  {name}: {seconds:.2f} s", flush=True)

    def build(*options: str, onto: list[str]) -> tuple[float, int, dict[str, Any]]:
        forget(disc, *files)
        named = [word for target in onto for word in ("--onto", target)]
        return run([*PROGRAM, "build", str(disc), *named, "--yes", "--no-probe", "--json", *options])

    def write() -> None:
        seconds, _, told = build("--no-verify", "--from-scratch", onto=[device])
        note("write", told["result"]["writing_seconds"])
        note("around it", seconds - told["result"]["writing_seconds"])

    def dd_write() -> None:
        forget(disc, *files)
        note("dd write", run(["dd", f"if={disc}", f"of={device}", "bs=4M", "oflag=direct", "conv=fsync"])[0])

    def dd_read(count: int) -> None:
        forget(*files)
        note("dd read", run(["dd", f"if={device}", "of=/dev/null", "bs=4M", "iflag=direct", f"count={count >> 22}"])[0])

    peak = 0
    for number in range(rounds):
        for step in (write, dd_write) if number % 2 else (dd_write, write):
            step()
        _, memory, told = build("--from-scratch", onto=[device])
        peak = max(peak, memory)
        note("read back", told["result"]["reading_back_seconds"])
        count = told["result"]["bytes_written"]
        if number % 2:
            dd_read(count)
        for name, options in (("update", ()), ("quick update", ("--quick",))):  # the first reads the source as well
            seconds, _, told = build("--update", *options, onto=[device])
            note(name, told["result"]["reading_back_seconds"])
            note(f"around {name}", seconds - told["result"]["reading_back_seconds"])
            assert told["result"]["bytes_written"] == 0
        if not number % 2:
            dd_read(count)
    for name, times in rows.items():
        print(f"{name:20}{statistics.median(times):8.2f} s")
    for one, other, limit in CLAIMS:
        ratios = [a / b for a, b in zip(rows[one], rows[other], strict=True)]
        each = ", ".join(f"{ratio:.2f}" for ratio in ratios)
        print(f"{one} / {other}: median {statistics.median(ratios):.2f} ({each}); claimed: {limit:.2f} at most")
    print(f"peak memory, one drive: {peak >> 20} MiB")
    seconds, memory, told = build("--no-verify", "--from-scratch", onto=devices)
    alone = any(drive["own_pass"] for drive in told["drives"])
    print(
        f"four drives, not read back: {seconds:.2f} s, {told['read'] / size:.3f} x the source read"
        + (", one on its own" if alone else "")
    )
    seconds, memory, _ = build("--from-scratch", onto=devices)
    print(f"four drives, read back: {seconds:.2f} s, peak memory {memory >> 20} MiB; claimed: 150 MB at most")


def run(command: list[str]) -> tuple[float, int, dict[str, Any]]:
    """Return (seconds, peak bytes, JSON printed) of a command that must succeed; 'read' is added: bytes it read."""
    child = subprocess.Popen(
        [sys.executable, "-S", "-c", SPY, *command], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    out, told = child.communicate()
    if child.returncode:
        sys.exit(f"failed: {' '.join(command)}\n{told}\n{out}")
    seconds, peak, read = told.strip().splitlines()[-1].split()
    document = json.loads(out) if out.startswith("{") else {}
    return float(seconds), int(peak), {**document, "read": int(read)}


SPY = """
import os, sys, time
started = time.monotonic()
child = os.posix_spawnp(sys.argv[1], sys.argv[1:], os.environ)
os.waitid(os.P_PID, child, os.WEXITED | os.WNOWAIT)
seconds = time.monotonic() - started
read = next(line.split()[1] for line in open(f"/proc/{child}/io") if line.startswith("rchar"))
_, status, usage = os.wait4(child, 0)
print(file=sys.stderr)
print(seconds, usage.ru_maxrss * 1024, read, file=sys.stderr)
sys.exit(os.waitstatus_to_exitcode(status))
"""


if __name__ == "__main__":
    main()
