"""The drives of a Mac, through diskutil, the I/O registry, and the raw disk nodes.

Never run on a real one (docs/not-proven-here.md).
"""
