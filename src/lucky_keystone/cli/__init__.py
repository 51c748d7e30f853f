"""The command line: one module per command, and how things are shown. Nothing is computed here."""
