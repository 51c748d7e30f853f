"""The Tidewell scenario: a made-up ferry company's installer disc and its bay of drives, made on the spot."""
