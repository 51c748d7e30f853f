"""What this computer remembers of drives and their builds: one local database."""
