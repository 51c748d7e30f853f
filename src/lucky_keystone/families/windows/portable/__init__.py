"""A Windows that runs from the drive itself: one edition of an install image, applied, with what starts it."""
