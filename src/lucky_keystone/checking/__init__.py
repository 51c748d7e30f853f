"""Checks a drive from its own bytes: table, file system, contents by the manifest, and the way it starts.

Nothing here trusts the composer: volumes are read by their readers, and hashes are taken from what the drive gives.
"""
