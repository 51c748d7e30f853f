"""NTFS: records as documented, geometry, composing a tree into extents, and reading one back with code of its own.

records     structures on disk                    geometry         how a volume divides its clusters
names       which can be stored, short ones       upcase, index    how names compare, and the B+ trees they are in
attributes  attributes and file records as bytes  security         descriptors, and the stream that keeps them
catalogue   records, names and indexes of a tree  system           the volume's own files
layout      which clusters everything gets        mft, compose     file records, and the regions of the whole volume
parse       bytes of any kind to records          file, read       records to files, and back to a tree
essence     what hosts leave alone in a file record
"""
