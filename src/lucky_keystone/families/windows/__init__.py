"""Windows installers: what they hold, and the drives they become."""
