"""What every room uses: errors, units, files and their paths, progress."""
