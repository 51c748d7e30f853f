"""The tree of errors at the front of `common/errors.py` is the one there is."""

from __future__ import annotations

import importlib
import pkgutil
import re
from contextlib import suppress

import lucky_keystone
from lucky_keystone.cli.exit_codes import EXIT_CODES
from lucky_keystone.common import errors


def test_the_tree_is_complete_and_its_exit_codes_are_right() -> None:
    for found in pkgutil.walk_packages(lucky_keystone.__path__, "lucky_keystone."):
        with suppress(ImportError):  # of other systems
            importlib.import_module(found.name)
    told = dict(re.findall(r"[├└]── (\w+) +(\d+) ", errors.__doc__ or ""))
    there: dict[str, str] = {}
    waiting = errors.KeystoneError.__subclasses__()
    while waiting:
        kind = waiting.pop()
        there[kind.__name__] = str(kind.exit_code)
        waiting += kind.__subclasses__()
    assert told == there
    assert {int(code) for code in there.values()} <= {*EXIT_CODES}
