"""Two-wire current sensors: about 7 and 14 mA, seen across a resistor."""
