"""Blocks and looks that every figure shares."""
