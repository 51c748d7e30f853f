"""macOS installers: what their apps hold, generation by generation, and the drives they become."""
