"""Boot records and what loaders need: assembled code from `firmware/`, placed and patched here."""
