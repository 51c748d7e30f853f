"""Makes an existing drive start without erasing it: remedies for what a check found, and the way back."""
