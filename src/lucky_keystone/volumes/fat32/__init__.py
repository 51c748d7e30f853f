"""FAT32: records as fatgen103 declares them, names, geometry, composing and reading back."""
