"""Remedies that add or replace files."""

from __future__ import annotations

from .remedy import Rules

RULES: Rules = {}
