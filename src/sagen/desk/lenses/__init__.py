"""The lenses over a capture: Strip, Turns, Wheel, and the table of teeth."""
