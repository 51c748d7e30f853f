"""Whether firmware starts a drive, and why: one rule per kind of firmware, for planned and found drives alike."""
