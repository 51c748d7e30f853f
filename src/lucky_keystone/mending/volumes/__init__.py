"""Remedies for volumes of each kind."""
