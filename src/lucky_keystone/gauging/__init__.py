"""Measures drives: what one really holds, how fast it is over its whole length, and where it fails."""
