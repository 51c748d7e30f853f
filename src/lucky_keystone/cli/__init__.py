"""The command line: one module a command, and how things are shown. Nothing is computed here."""
