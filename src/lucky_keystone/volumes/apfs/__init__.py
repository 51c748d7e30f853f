"""APFS, which is read only: containers, their volumes, and what is in them."""
