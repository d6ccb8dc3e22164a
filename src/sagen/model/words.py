"""How the words of `vocabulary.py` are said aloud."""

from __future__ import annotations

import math

from sagen.model.finding import Estimate
from sagen.model.trail import OVER_RANGE_OHM
from sagen.model.vocabulary import (
    CardQuantity,
    Cause,
    Complaint,
    EngineRuns,
    EntryKind,
    FindingKind,
    Judged,
    LineState,
    Occasion,
    Origin,
    Part,
    PatternSource,
    Place,
    Point,
    ProofStep,
    RelearnKind,
    Role,
    SeenMark,
    SensorKind,
    State,
    StepKind,
    Thing,
    WireIs,
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
#: what a recording of the model is called that lies under a capture in place of a known-good one
EXPECTED = "what the model expects of a sound one"

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
    EntryKind.SCAN: "Tester",
    EntryKind.STAYED: "After the repair",
    EntryKind.DECISION: "Decision",
    EntryKind.CARD: "Machine card",
    EntryKind.VALUE: "Reading by the card",
    EntryKind.PLACE: "Access",
    EntryKind.STEP: "Taken apart",
    EntryKind.PART: "Part line",
    EntryKind.SEEN: "Also seen",
    EntryKind.PHOTO: "Photo",
    EntryKind.COSTS: "Costs",
    EntryKind.DAMAGED: "Damaged entry",
    EntryKind.NEWER: "From a newer Sagen",
}
#: what is owed after a repair, in the order in which it is done
OWED = {
    ProofStep.MEASURED: "The same measurements taken again, and sound",
    ProofStep.CLEARED: "Codes cleared",
    ProofStep.READ_NOW: "Codes read again at once: none came back",
    ProofStep.RELEARN: "Relearn done, where the maker calls for one",
    ProofStep.DRIVEN: "Driven as the complaint was",
    ProofStep.READ_AFTER: "Codes read again after the drive: none came back",
    ProofStep.STAYED_AWAY: "Read again later: the code stayed away",
}
#: the same in two words
OWED_SHORT = {
    ProofStep.MEASURED: "measure again", ProofStep.CLEARED: "clear the codes", ProofStep.READ_NOW: "read them at once",
    ProofStep.RELEARN: "relearn", ProofStep.DRIVEN: "drive", ProofStep.READ_AFTER: "read them after the drive",
    ProofStep.STAYED_AWAY: "see that it stays away",
}  # fmt: skip
RELEARNS = {
    RelearnKind.NONE: "None", RelearnKind.BY_ITSELF: "By itself, while driving", RelearnKind.DRIVEN: "Driven in steps",
    RelearnKind.COMMANDED: "Commanded by a tool", RelearnKind.KEY_CYCLES: "Key cycles", RelearnKind.IDLE: "A long idle",
}  # fmt: skip
STEPS = {
    StepKind.UNPLUGGED: "Unplugged", StepKind.UNBOLTED: "Unbolted", StepKind.CLAMPED: "Clamped off",
    StepKind.LIFTED: "Lifted off", StepKind.DRAINED: "Drained", StepKind.BROKE: "Broke: to the parts list",
    StepKind.APART: "Taken apart",
}  # fmt: skip
LINE_STATES = {
    LineState.OFFER: "Offer", LineState.WANTED: "Wanted", LineState.ORDERED: "Ordered", LineState.CAME: "Came",
    LineState.FITTED: "Fitted", LineState.SENT_BACK: "Sent back",
}  # fmt: skip
SEEN_MARKS = {
    SeenMark.WATCH: "Watch", SeenMark.NOT_NOW: "Not now", SeenMark.QUOTE: "Quote", SeenMark.DONE: "Done",
}  # fmt: skip
PLACES = {
    Place.PLUG: "Plug", Place.SENSOR: "Sensor", Place.WHEEL: "Wheel", Place.MODULE: "Module", Place.FUSE: "Fuse box",
    Place.TIMING: "Timing drive",
}  # fmt: skip
WIRES = {
    WireIs.SUPPLY: "Feed", WireIs.SIGNAL: "Signal", WireIs.GROUND: "Return", WireIs.COIL: "Coil's other leg",
    WireIs.SHIELD: "Shield", WireIs.OTHER: "Other",
}  # fmt: skip
PATTERN_SOURCES = {
    PatternSource.AFTER_REPAIR: "after a proven repair", PatternSource.TWIN: "the twin bank",
    PatternSource.ANOTHER_MACHINE: "another machine of the kind", PatternSource.PRINTED: "the maker's printed picture",
}  # fmt: skip
JUDGED = {Judged.INSIDE: "inside", Judged.OUTSIDE: "outside", Judged.TOO_CLOSE: "too close to say"}
QUANTITIES = {
    CardQuantity.OHM: "Ω", CardQuantity.VOLT: "V", CardQuantity.MILLIAMPERE: "mA", CardQuantity.HERTZ: "Hz",
    CardQuantity.KILOPASCAL: "kPa", CardQuantity.DEGREE: "°", CardQuantity.PERCENT: "%", CardQuantity.SHOWN: "shown",
}  # fmt: skip


OCCASIONS = {
    Occasion.HOT: "Hot",
    Occasion.COLD: "Cold",
    Occasion.WET: "Wet",
    Occasion.REVVED: "Revved",
    Occasion.BUMPS: "Over bumps",
    Occasion.ALWAYS: "Always",
}
OCCASIONS_SAID = {
    Occasion.HOT: "when hot",
    Occasion.COLD: "when cold",
    Occasion.WET: "when wet",
    Occasion.REVVED: "when revved",
    Occasion.BUMPS: "over bumps",
    Occasion.ALWAYS: "always",
}
ENGINE_RUNS_SAID = {
    EngineRuns.YES: "the engine runs",
    EngineRuns.NO: "the engine does not run",
    EngineRuns.AT_TIMES: "the engine runs at times",
}
THINGS = {
    Thing.SENSOR: "Sensor",
    Thing.TIP: "Sensor's tip",
    Thing.SEAT: "Sensor's seat",
    Thing.WHEEL: "Wheel",
    Thing.PLUG: "Plug and pins",
    Thing.SIGNAL_WIRE: "Signal wire",
    Thing.SUPPLY_WIRE: "Feed wire",
    Thing.GROUND_WIRE: "Return wire",
    Thing.HARNESS: "Harness",
    Thing.SHIELD: "Shield",
    Thing.FUSE: "Fuse",
    Thing.RELAY: "Relay",
    Thing.GROUND_POINT: "Ground point",
    Thing.MODULE: "Module",
    Thing.TIMING: "Belt or chain",
    Thing.ENGINE: "Battery, starter, engine",
}


def said_number(value: float, digits: int = 3) -> str:
    """A number to so many figures, without powers of ten.

    >>> said_number(1234.5), said_number(0.00123), said_number(12.0)
    ('1230', '0.00123', '12.0')
    """
    if not value:
        return "0"
    places = digits - 1 - math.floor(math.log10(abs(value)))
    text = f"{round(value, places):.{max(places, 0)}f}"
    return text


def said_ohms(ohm: float) -> str:
    """A resistance as a technician says it.

    >>> said_ohms(0.35), said_ohms(860.0), said_ohms(2200.0), said_ohms(1.3e6), said_ohms(4e7)
    ('0.35 ohm', '860 ohm', '2.20 kohm', '1.30 Mohm', 'over range')
    """
    if ohm >= OVER_RANGE_OHM:
        return "over range"
    for factor, unit in ((1e6, "Mohm"), (1e3, "kohm")):
        if ohm >= factor:
            return f"{said_number(ohm / factor)} {unit}"
    return f"{said_number(ohm, 2 if ohm < 10 else 3)} ohm"


def said_volts(volts: float) -> str:
    """A voltage as a technician says it: millivolts below a tenth of a volt.

    >>> said_volts(0.042), said_volts(4.8), said_volts(12.55)
    ('42 mV', '4.80 V', '12.6 V')
    """
    return f"{1e3 * volts:.0f} mV" if abs(volts) < 0.1 else f"{said_number(volts)} V"


def said_range(low: float, high: float, ohms: bool) -> str:
    """A range of readings.

    >>> said_range(0.002, 0.06, False), said_range(780, 960, True), said_range(4.9, 5.0, False)
    ('2 to 60 mV', '780 to 960 ohm', '4.90 to 5.00 V')
    """
    one, other = (said_ohms(low), said_ohms(high)) if ohms else (said_volts(low), said_volts(high))
    if one == other:
        return one if one == "over range" else f"about {one}"
    first, _, unit = one.rpartition(" ")
    return f"{first} to {other}" if other.endswith(" " + unit) else f"{one} to {other}"


#: how strongly a reason speaks, from so many bits on
STRENGTHS = ((4.0, "strongly"), (1.5, "clearly"), (0.0, "a little"))


def strength(bits: float) -> str:
    """How strongly a reason speaks, and for which side, as a technician would say it."""
    size = next(text for least, text in STRENGTHS if abs(bits) >= least)
    return f"{size} {'for it' if bits > 0 else 'against it'}"


def times_likelier(bits: float) -> str:
    """The figure behind it: "12 times likelier with it than with anything else"."""
    times = 2.0 ** abs(bits)
    return f"{said_number(times, 2)} times {'likelier' if bits > 0 else 'less likely'} with it than with anything else"


#: what an estimate is of, by its quantity
ESTIMATES = {
    "contact_ohm": "in the contact of the signal pin",
    "wire_ohm": "in the signal wire",
    "leak_ohm": "from the signal wire to ground",
    "leak_to_feed_ohm": "from the signal wire to the feed",
    "return_ohm": "in the return",
    "feed_ohm": "in the feed",
    "strap_ohm": "in the engine's earth",
    "pull_up_ohm": "before the module's pull-up",
    "load_ohm": "at the module's input",
    "output_on_ohm": "left in the output when it conducts",
    "output_off_ohm": "past the output when it should not conduct",
    "coil_ohm": "across the coil",
    "element_ohm": "across the element",
}


def estimate_text(estimate: Estimate) -> str:
    """How large a fault is: "About 1.2 kohm from the signal wire to ground (0.9 to 1.5 kohm)"."""
    where = ESTIMATES.get(estimate.quantity, "")
    return f"About {said_ohms(estimate.value)} {where} ({said_range(estimate.low, estimate.high, True)})."


def surely(probability: float) -> str:
    """A probability as it is said of a suspect: never more than the record of such calls bears out, never nothing."""
    return f"{min(max(100.0 * probability, 1.0), 99.0):.0f} %"


def said_minutes(minutes: float) -> str:
    """A time in whole minutes, as it is said: "1 minute", "12 minutes"."""
    whole = max(round(minutes), 1) if minutes > 0 else 0
    return "1 minute" if whole == 1 else f"{whole} minutes"
