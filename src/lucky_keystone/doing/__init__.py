"""What a command does once it is known what is asked: no terminal is known here."""
