"""Where the program begins: `lucky-keystone`, `lkey`, or `python -m lucky_keystone`."""

from __future__ import annotations

import sys


def run() -> None:
    """Run the program. Ctrl-C ends it in order from here on, also while its parts are still being loaded."""
    try:
        from .cli.main import entry

        entry()
    except KeyboardInterrupt:
        sys.exit(130)


if __name__ == "__main__":
    run()
