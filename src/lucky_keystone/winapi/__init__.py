"""What is asked of Windows itself, for the rooms that need it; empty modules on every other system."""
