"""Compiles programs for UEFI firmware of 64-bit PCs, which tests start beside what they try."""

from __future__ import annotations

import subprocess
from pathlib import Path

from ..helpers.judges import need

_FLAGS = (
    "-std=c11 -Os -ffreestanding -fno-stack-protector -fshort-wchar -mno-red-zone -mno-stack-arg-probe -Wall -Werror"
)


def compile_program(name: str, folder: Path) -> Path:
    """Compile `name`.c of this folder; return the program."""
    source, code, program = Path(__file__).with_name(f"{name}.c"), folder / f"{name}.obj", folder / f"{name}.efi"
    compiler = [need("clang"), "-target", "x86_64-unknown-windows", *_FLAGS.split(), "-c", str(source)]
    subprocess.run([*compiler, "-o", str(code)], check=True)
    linker = [need("lld-link"), "-nodefaultlib", "-entry:efi_main", "-subsystem:efi_application", "-machine:x64"]
    subprocess.run([*linker, f"-out:{program}", str(code)], check=True)
    return program
