"""Lucky Keystone: builds installer drives by composing them first and streaming them once."""

__version__ = "0.1.0"
