"""A checker for each kind of volume: is it sound, and what is use by a host and what is damage."""
