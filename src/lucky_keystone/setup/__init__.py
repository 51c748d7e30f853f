"""What Windows setup reads from its drive beside its own files: answer files, waivers, driver packages."""
