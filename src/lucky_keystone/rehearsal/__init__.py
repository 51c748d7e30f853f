"""Runs a drive's own boot code without a machine.

A processor emulation, a small simulated BIOS, and what it did in words.
"""
