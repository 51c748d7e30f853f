"""Getting an image: from a server into a file that carries its name only when it is whole."""
