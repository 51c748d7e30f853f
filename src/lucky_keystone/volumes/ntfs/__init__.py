"""NTFS: records as documented, geometry, composing a tree into extents, and reading one back with code of its own.

records     structures on disk                    upcase, index    how names compare, and the B+ trees they stand in
geometry    how a volume divides its clusters     attributes       attributes and file records as bytes
layout      which record and clusters each file gets
system      the volume's own files                security         descriptors, and the stream that keeps them
compose     the regions of the whole volume       read             bytes back to a tree
"""
