"""The drives of a Windows computer, through its control calls. Never run on a real one (docs/not-proven-here.md)."""
