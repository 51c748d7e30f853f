"""What the technician was given: a disc image or a folder, read as a tree of contents, and the facts about it."""
