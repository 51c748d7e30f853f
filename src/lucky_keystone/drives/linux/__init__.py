"""The drives of a Linux computer: finding them from the kernel's description, opening and releasing devices."""
