"""The compressions of install images, in plain Python: a chunk's bytes in, its unpacked bytes out. The specification.

Each module has `unpack(data, size)`, which raises PackingError for bytes that are damaged, and never reads or writes
outside of what it was given.
"""
