"""exFAT: read, checked, and composed for ordinary storage. Sections are those of its published specification."""
