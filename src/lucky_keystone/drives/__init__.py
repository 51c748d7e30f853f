"""Attached drives: the bay of simulated ones for now, image files, tags, and the guards that hold drives back."""
