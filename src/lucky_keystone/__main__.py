"""`python -m lucky_keystone` runs the program."""

from .cli.main import entry

entry()
