"""The closed sets of words that files, screens and reasoning share, with how each is said aloud."""

from __future__ import annotations

STATES = {
    "key_on": "key on, engine still",
    "cranking": "cranking",
    "start": "start",
    "running": "running",
    "rolling": "rolling",
    "strike": "strike",
    "wiggle": "wiggling the harness",
}
#: states in which the shaft is expected to turn
TURNING = frozenset({"cranking", "start", "running", "rolling"})

ROLES = {
    "crank": "crankshaft",
    "cam": "camshaft",
    "speed": "speed",
    "knock": "knock",
    "supply": "supply",
    "ground": "ground",
    "other": "other",
}
SENSORS = {
    "hall": "switching (hall)",
    "reluctance": "coil (reluctance)",
    "current": "two-wire current",
    "piezo": "piezo (knock)",
}

CAUSES = {
    "sensor": "Sensor",
    "air_gap": "Air gap",
    "reluctor": "Reluctor",
    "wiring": "Wiring",
    "supply": "Supply",
    "ground": "Ground",
    "module": "Module",
    "timing": "Timing",
    "engine": "Engine",
    "interference": "Interference",
    "none": "No fault found",
}

COMPLAINTS = {
    "no_start": "Does not start",
    "long_crank": "Cranks long before it starts",
    "stalls": "Stalls",
    "runs_rough": "Runs rough",
    "no_power": "No power",
    "lamp_only": "Lamp only",
    "no_speed_display": "No speed display",
}

#: a finding's kind in the words a technician would put over the picture
FINDING_TITLES = {
    "no_signal": "No signal",
    "low_not_pulled_down": "Not pulled to ground",
    "high_not_reached": "Does not rise to the pull-up",
    "weak_amplitude": "Weak signal",
    "extra_gap": "Tooth missing",
    "odd_tooth": "Odd tooth",
    "runout": "Runout",
    "erratic": "Erratic teeth",
    "dropout": "Signal drops out",
    "supply_loss": "Supply falls",
    "ground_lift": "Ground rises",
    "reversed_polarity": "Wires crossed",
    "wrong_pattern": "Not the expected wheel",
    "timing_offset": "Cam timing off",
    "timing_scatter": "Cam timing wanders",
    "noise": "Disturbance",
    "undersampled": "Sampled too slowly",
    "clipped": "Clipped",
    "too_short": "Too short",
}
