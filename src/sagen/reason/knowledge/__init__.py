"""Reviewed data: fault modes, checks and cautions, one TOML file each with its grammar on top."""
