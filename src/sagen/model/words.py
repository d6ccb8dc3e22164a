"""How the words of `vocabulary.py` are said aloud."""

from __future__ import annotations

from sagen.model.vocabulary import (
    Cause,
    Complaint,
    EntryKind,
    FindingKind,
    Origin,
    Part,
    Point,
    Role,
    SensorKind,
    State,
)

STATES = {
    State.KEY_ON: "key on, engine still",
    State.KEY_ON_UNPLUGGED: "key on, unplugged",
    State.CRANKING: "cranking",
    State.START: "start",
    State.RUNNING: "running",
    State.ROLLING: "rolling",
    State.STRIKE: "strike",
    State.WIGGLE: "wiggling the harness",
    State.METAL_NEAR: "steel at the tip",
    State.METAL_AWAY: "clear of metal",
    State.UNPLUGGED: "unplugged",
    State.LOADED: "under a load",
}
#: a state behind the name of a point: "return, while cranking"
STATES_THEN = STATES | {
    State.KEY_ON: "key on",
    State.CRANKING: "while cranking",
    State.RUNNING: "while running",
    State.WIGGLE: "while it is moved",
}
POINTS = {
    Point.SUPPLY: "feed at the plug",
    Point.SIGNAL: "signal at the plug",
    Point.GROUND: "return at the plug",
    Point.SHIELD: "shield",
    Point.SENSOR: "across the sensor",
    Point.SUPPLY_WIRE: "feed wire, end to end",
    Point.SIGNAL_WIRE: "signal wire, end to end",
    Point.GROUND_WIRE: "return wire, end to end",
}
ROLES = {
    Role.CRANK: "crankshaft",
    Role.CAM: "camshaft",
    Role.SPEED: "speed",
    Role.KNOCK: "knock",
    Role.SUPPLY: "supply",
    Role.GROUND: "ground",
    Role.OTHER: "other",
}
#: what a channel is called beside its waveform
CHANNELS = {
    Role.CRANK: "crank signal",
    Role.CAM: "cam signal",
    Role.SPEED: "speed signal",
    Role.KNOCK: "knock",
    Role.SUPPLY: "feed",
    Role.GROUND: "return",
    Role.OTHER: "other",
}
SENSORS = {
    SensorKind.HALL: "switching (hall)",
    SensorKind.RELUCTANCE: "coil (reluctance)",
    SensorKind.CURRENT: "two-wire current",
    SensorKind.PIEZO: "piezo (knock)",
}
CAUSES = {
    Cause.SENSOR: "Sensor",
    Cause.AIR_GAP: "Air gap",
    Cause.RELUCTOR: "Reluctor",
    Cause.WIRING: "Wiring",
    Cause.SUPPLY: "Supply",
    Cause.GROUND: "Ground",
    Cause.MODULE: "Module",
    Cause.TIMING: "Timing",
    Cause.ENGINE: "Engine",
    Cause.INTERFERENCE: "Interference",
    Cause.NONE: "No fault found",
}
COMPLAINTS = {
    Complaint.NO_START: "Does not start",
    Complaint.LONG_CRANK: "Cranks long before it starts",
    Complaint.STALLS: "Stalls",
    Complaint.RUNS_ROUGH: "Runs rough",
    Complaint.NO_POWER: "No power",
    Complaint.LAMP_ONLY: "Lamp only",
    Complaint.NO_SPEED_DISPLAY: "No speed display",
}
PARTS = {
    Part.SENSOR: "Sensor",
    Part.HARNESS: "Harness or plug",
    Part.WHEEL: "Wheel or ring",
    Part.SEAT: "Seat, flange, gap",
    Part.MODULE: "Module",
    Part.SUPPLY: "Fuse, relay, feed",
    Part.GROUND: "Return or earth",
    Part.TIMING: "Belt, chain, phaser",
    Part.ENGINE: "Battery, starter, engine",
}
ORIGINS = {
    Origin.ORIGINAL: "Original part",
    Origin.AFTERMARKET: "Other maker's part",
    Origin.UNKNOWN: "Not known",
    Origin.USED: "Used part",
}
#: a finding's kind in the words a technician would put over the picture
FINDING_TITLES = {
    FindingKind.NO_SIGNAL: "No signal",
    FindingKind.LOW_NOT_PULLED_DOWN: "Not pulled to ground",
    FindingKind.HIGH_NOT_REACHED: "Does not rise to the pull-up",
    FindingKind.WEAK_AMPLITUDE: "Weak signal",
    FindingKind.EXTRA_GAP: "Tooth missing",
    FindingKind.ODD_TOOTH: "Odd tooth",
    FindingKind.RUNOUT: "Runout",
    FindingKind.ERRATIC: "Erratic teeth",
    FindingKind.DROPOUT: "Signal drops out",
    FindingKind.SUPPLY_LOSS: "Supply falls",
    FindingKind.GROUND_LIFT: "Ground rises",
    FindingKind.REVERSED_POLARITY: "Wires crossed",
    FindingKind.WRONG_PATTERN: "Not the expected wheel",
    FindingKind.TIMING_OFFSET: "Cam timing off",
    FindingKind.TIMING_SCATTER: "Cam timing wanders",
    FindingKind.NOISE: "Disturbance",
    FindingKind.WEAK_STRIKE: "Weak answer to a tap",
    FindingKind.RING_MISMATCH: "Rings at another pitch",
    FindingKind.LOADED_DOWN: "Held down when plugged in",
    FindingKind.UNDERSAMPLED: "Sampled too slowly",
    FindingKind.CLIPPED: "Clipped",
    FindingKind.TOO_SHORT: "Too short",
}
ENTRY_TITLES = {
    EntryKind.COMPLAINT: "Complaint",
    EntryKind.CODE: "Trouble code",
    EntryKind.CAPTURE: "Capture",
    EntryKind.FINDING: "Read elsewhere",
    EntryKind.NOTE: "Note",
    EntryKind.REPAIR: "Repair",
    EntryKind.PROOF: "Proof",
    EntryKind.READING: "Reading",
    EntryKind.INSPECTION: "Looked at",
    EntryKind.REPLACED: "Replaced before",
    EntryKind.CIRCUIT: "Circuit",
    EntryKind.DAMAGED: "Damaged entry",
    EntryKind.NEWER: "From a newer Sagen",
}
#: what is owed after a repair, in the order in which it is done
OWED = {
    "measured": "The same measurements taken again, and sound",
    "cleared": "Codes cleared",
    "relearn": "Relearn done, where the maker calls for one",
    "driven": "Driven as the complaint was",
    "stayed_away": "Read again: the code stayed away",
}
