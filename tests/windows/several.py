"""Runs several commands of the program in one interpreter: starting one under Wine takes longer than most commands.

python several.py [ENCODING] < commands.json    a list of command lines; answers with a list of [code, output, errors]

With an encoding the commands find streams of that code page, as in a console of Windows.
"""

from __future__ import annotations

import io
import json
import sys

from lucky_keystone.cli.main import main
from lucky_keystone.cli.streams import prepare_streams


class Captured(io.TextIOWrapper):
    """A stream that is no terminal, and is kept."""

    def __init__(self, encoding: str) -> None:
        super().__init__(io.BytesIO(), encoding, newline="\n")

    @property
    def text(self) -> str:
        self.flush()
        return self.buffer.getvalue().decode("utf-8")  # type: ignore[attr-defined]


def run(words: list[str], encoding: str) -> tuple[int, str, str]:
    before = sys.stdout, sys.stderr
    out, err = Captured(encoding), Captured(encoding)
    sys.stdout, sys.stderr = out, err
    prepare_streams()
    try:
        code = main(words)
    finally:
        sys.stdout, sys.stderr = before
    return code, out.text, err.text


if __name__ == "__main__":
    page = sys.argv[1] if len(sys.argv) > 1 else "utf-8"
    done = [run(words, page) for words in json.loads(sys.stdin.buffer.read())]
    sys.stdout.buffer.write(json.dumps(done).encode())
