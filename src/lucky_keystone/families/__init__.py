"""What a source becomes: each family says what it is, which volumes it wants, and what it refuses."""
