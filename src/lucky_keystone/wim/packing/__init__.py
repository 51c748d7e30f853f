"""The compressions of install images: a chunk's bytes in, its unpacked bytes out.

`xpress` and `lzx` are plain Python, and the specification: `unpack` raises PackingError for bytes that are damaged, and
never reads or writes outside of what it was given. `fast` runs the same, compiled.
"""
