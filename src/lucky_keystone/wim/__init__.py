"""The install-image format (WIM).

Header, lookup table, XML facts, integrity table, and dividing an image into parts.
"""
