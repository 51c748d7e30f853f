"""What a machine is and can start: read from this computer, or written by hand for one that does not run."""
