"""A page to keep with a drive: what it is, what it was made from, whether it is whole, and how to start from it."""
