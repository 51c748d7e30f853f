"""Runs several commands of the program in one interpreter: starting one under Wine takes longer than most commands.

python several.py < commands.json       a list of command lines; answers with a list of [code, output, errors]
"""

from __future__ import annotations

import io
import json
import sys

from lucky_keystone.cli.main import main


class Captured(io.TextIOWrapper):
    """A stream that is no terminal, and is kept."""

    def __init__(self) -> None:
        super().__init__(io.BytesIO(), "utf-8", newline="\n")

    @property
    def text(self) -> str:
        self.flush()
        return self.buffer.getvalue().decode("utf-8")  # type: ignore[attr-defined]


def run(words: list[str]) -> tuple[int, str, str]:
    before = sys.stdout, sys.stderr
    out, err = Captured(), Captured()
    sys.stdout, sys.stderr = out, err
    try:
        code = main(words)
    finally:
        sys.stdout, sys.stderr = before
    return code, out.text, err.text


if __name__ == "__main__":
    done = [run(words) for words in json.loads(sys.stdin.buffer.read())]
    sys.stdout.buffer.write(json.dumps(done).encode())
