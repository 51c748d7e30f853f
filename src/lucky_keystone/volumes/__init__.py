"""Volumes: each file system composes a tree into extents, and reads bytes back into a tree with code of its own."""
