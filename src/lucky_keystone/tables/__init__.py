"""Partition tables: composing and reading them."""
