"""From facts, choices and a drive to a plan: decisions with their reasons, the layout, and the forecast."""
