"""The install-image format (WIM): header, blob table, XML facts, integrity table, and dividing an image into parts."""
