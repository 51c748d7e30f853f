"""The parts of the job, in order."""

PARTS = ("look", "counter", "crew", "machines", "mend", "bench", "printer", "server", "poster", "bridge", "record")
"""What the demo shows, in order; a drive each for counter PCs, crew laptops, printers, the studio's Mac, the bridge."""
