"""Whether firmware starts a drive, and why: one rule a kind of firmware, asked of planned and of found drives alike."""
