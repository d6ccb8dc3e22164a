"""How the words of `vocabulary.py` are said aloud."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from sagen.model.language import figure, joined_and, later, lowered, said_now, tr, trn
from sagen.model.vocabulary import (
    NOTHING_FOUND,
    OVER_RANGE_OHM,
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

if TYPE_CHECKING:
    from sagen.model.finding import Estimate

#: names of states as messages that are kept, and as they are read
STATES_KEPT = {
    State.KEY_ON: later("key on, engine still"),
    State.KEY_ON_UNPLUGGED: later("key on, unplugged"),
    State.CRANKING: later("cranking"),
    State.START: later("start"),
    State.RUNNING: later("running"),
    State.ROLLING: later("rolling"),
    State.STRIKE: later("strike"),
    State.WIGGLE: later("wiggling the harness"),
    State.METAL_NEAR: later("steel at the tip"),
    State.METAL_AWAY: later("clear of metal"),
    State.UNPLUGGED: later("unplugged"),
    State.LOADED: later("under a load"),
}
STATES = {state: said_now(kept) for state, kept in STATES_KEPT.items()}
#: what a recording of the model is called that lies under a capture in place of a known-good one
EXPECTED = tr("what the model expects of a sound one")

#: a state behind the name of a point: "return, while cranking"
STATES_THEN = STATES | {
    State.KEY_ON: tr("key on"),
    State.CRANKING: tr("while cranking"),
    State.RUNNING: tr("while running"),
    State.WIGGLE: tr("while it is moved"),
}
POINTS = {
    Point.SUPPLY: tr("feed at the plug"),
    Point.SIGNAL: tr("signal at the plug"),
    Point.GROUND: tr("return at the plug"),
    Point.SHIELD: tr("shield"),
    Point.SENSOR: tr("across the sensor"),
    Point.SUPPLY_WIRE: tr("feed wire, end to end"),
    Point.SIGNAL_WIRE: tr("signal wire, end to end"),
    Point.GROUND_WIRE: tr("return wire, end to end"),
}
ROLES = {
    Role.CRANK: tr("crankshaft"),
    Role.CAM: tr("camshaft"),
    Role.SPEED: tr("speed"),
    Role.KNOCK: tr("knock"),
    Role.SUPPLY: tr("supply"),
    Role.GROUND: tr("ground"),
    Role.OTHER: tr("other"),
}
#: what a channel is called beside its waveform
CHANNELS = {
    Role.CRANK: tr("crank signal"),
    Role.CAM: tr("cam signal"),
    Role.SPEED: tr("speed signal"),
    Role.KNOCK: tr("knock"),
    Role.SUPPLY: tr("feed"),
    Role.GROUND: tr("return"),
    Role.OTHER: tr("other"),
}
#: kinds of sensor as messages that are kept, and as they are read
SENSORS_KEPT = {
    SensorKind.HALL: later("switching (hall)"),
    SensorKind.RELUCTANCE: later("coil (reluctance)"),
    SensorKind.CURRENT: later("two-wire current"),
    SensorKind.PIEZO: later("piezo (knock)"),
}
SENSORS = {kind: said_now(kept) for kind, kept in SENSORS_KEPT.items()}
CAUSES = {
    Cause.SENSOR: tr("Sensor"),
    Cause.AIR_GAP: tr("Air gap"),
    Cause.RELUCTOR: tr("Reluctor"),
    Cause.WIRING: tr("Wiring"),
    Cause.SUPPLY: tr("Supply"),
    Cause.GROUND: tr("Ground"),
    Cause.MODULE: tr("Module"),
    Cause.TIMING: tr("Timing"),
    Cause.ENGINE: tr("Engine"),
    Cause.INTERFERENCE: tr("Interference"),
    Cause.NONE: tr("No fault found"),
}
COMPLAINTS = {
    Complaint.NO_START: tr("Does not start"),
    Complaint.LONG_CRANK: tr("Cranks long before it starts"),
    Complaint.STALLS: tr("Stalls"),
    Complaint.RUNS_ROUGH: tr("Runs rough"),
    Complaint.NO_POWER: tr("No power"),
    Complaint.LAMP_ONLY: tr("Lamp only"),
    Complaint.NO_SPEED_DISPLAY: tr("No speed display"),
}
#: parts as messages that are kept, and as they are read
PARTS_KEPT = {
    Part.SENSOR: later("Sensor"),
    Part.HARNESS: later("Harness or plug"),
    Part.WHEEL: later("Wheel or ring"),
    Part.SEAT: later("Seat, flange, gap"),
    Part.MODULE: later("Module"),
    Part.SUPPLY: later("Fuse, relay, feed"),
    Part.GROUND: later("Return or earth"),
    Part.TIMING: later("Belt, chain, phaser"),
    Part.ENGINE: later("Battery, starter, engine"),
}
PARTS = {part: said_now(kept) for part, kept in PARTS_KEPT.items()}
ORIGINS = {
    Origin.ORIGINAL: tr("Original part"),
    Origin.AFTERMARKET: tr("Other maker's part"),
    Origin.UNKNOWN: tr("Not known"),
    Origin.USED: tr("Used part"),
}
#: a finding's kind in the words a technician would put over the picture
FINDING_TITLES = {
    FindingKind.NO_SIGNAL: tr("No signal"),
    FindingKind.LOW_NOT_PULLED_DOWN: tr("Not pulled to ground"),
    FindingKind.HIGH_NOT_REACHED: tr("Does not rise to the pull-up"),
    FindingKind.WEAK_AMPLITUDE: tr("Weak signal"),
    FindingKind.EXTRA_GAP: tr("Tooth missing"),
    FindingKind.ODD_TOOTH: tr("Odd tooth"),
    FindingKind.RUNOUT: tr("Runout"),
    FindingKind.ERRATIC: tr("Erratic teeth"),
    FindingKind.DROPOUT: tr("Signal drops out"),
    FindingKind.SUPPLY_LOSS: tr("Supply falls"),
    FindingKind.GROUND_LIFT: tr("Ground rises"),
    FindingKind.REVERSED_POLARITY: tr("Wires crossed"),
    FindingKind.WRONG_PATTERN: tr("Not the expected wheel"),
    FindingKind.TIMING_OFFSET: tr("Cam timing off"),
    FindingKind.TIMING_SCATTER: tr("Cam timing wanders"),
    FindingKind.NOISE: tr("Disturbance"),
    FindingKind.WEAK_STRIKE: tr("Weak answer to a tap"),
    FindingKind.RING_MISMATCH: tr("Rings at another pitch"),
    FindingKind.LOADED_DOWN: tr("Held down when plugged in"),
    FindingKind.UNDERSAMPLED: tr("Sampled too slowly"),
    FindingKind.CLIPPED: tr("Clipped"),
    FindingKind.TOO_SHORT: tr("Too short"),
}
ENTRY_TITLES = {
    EntryKind.COMPLAINT: tr("Complaint"),
    EntryKind.CODE: tr("Trouble code"),
    EntryKind.CAPTURE: tr("Capture"),
    EntryKind.FINDING: tr("Read elsewhere"),
    EntryKind.NOTE: tr("Note"),
    EntryKind.REPAIR: tr("Repair"),
    EntryKind.PROOF: tr("Proof"),
    EntryKind.READING: tr("Reading"),
    EntryKind.INSPECTION: tr("Looked at"),
    EntryKind.REPLACED: tr("Replaced before"),
    EntryKind.CIRCUIT: tr("Circuit"),
    EntryKind.SCAN: tr("Tester"),
    EntryKind.STAYED: tr("After the repair"),
    EntryKind.DECISION: tr("Decision"),
    EntryKind.CARD: tr("Machine card"),
    EntryKind.VALUE: tr("Reading by the card"),
    EntryKind.PLACE: tr("Access"),
    EntryKind.STEP: tr("Taken apart"),
    EntryKind.PART: tr("Part line"),
    EntryKind.SEEN: tr("Also seen"),
    EntryKind.PHOTO: tr("Photo"),
    EntryKind.COSTS: tr("Costs"),
    EntryKind.BOARD: tr("Picture board"),
    EntryKind.DAMAGED: tr("Damaged entry"),
    EntryKind.NEWER: tr("From a newer Sagen"),
}
_STEPS = {
    "new job": tr("new job"), "correct entry": tr("entry corrected"), "withdraw entry": tr("entry withdrawn"),
    "restore entry": tr("entry restored"),
}  # fmt: skip


def step_words(step: str) -> str:
    """A change of a job as undo names it.

    Parameters
    ----------
    step : str
        as the log keeps it: "new job", "add reading"
    """
    return _STEPS.get(step) or tr("{entry} added", entry=ENTRY_TITLES[EntryKind(step.removeprefix("add "))])


#: what is owed after a repair, in the order in which it is done
OWED = {
    ProofStep.MEASURED: tr("The same measurements taken again, and sound"),
    ProofStep.CLEARED: tr("Codes cleared"),
    ProofStep.READ_NOW: tr("Codes read again at once: none came back"),
    ProofStep.RELEARN: tr("Relearn done, where the maker calls for one"),
    ProofStep.DRIVEN: tr("Driven as the complaint was"),
    ProofStep.READ_AFTER: tr("Codes read again after the drive: none came back"),
    ProofStep.STAYED_AWAY: tr("Read again later: the code stayed away"),
}
#: the same in two words
OWED_SHORT = {
    ProofStep.MEASURED: tr("measure again"), ProofStep.CLEARED: tr("clear the codes"), ProofStep.READ_NOW: tr("read them at once"),
    ProofStep.RELEARN: tr("relearn"), ProofStep.DRIVEN: tr("drive"), ProofStep.READ_AFTER: tr("read them after the drive"),
    ProofStep.STAYED_AWAY: tr("see that it stays away"),
}  # fmt: skip
RELEARNS = {
    RelearnKind.NONE: tr("None"), RelearnKind.BY_ITSELF: tr("By itself, while driving"), RelearnKind.DRIVEN: tr("Driven in steps"),
    RelearnKind.COMMANDED: tr("Commanded by a tool"), RelearnKind.KEY_CYCLES: tr("Key cycles"), RelearnKind.IDLE: tr("A long idle"),
}  # fmt: skip
STEPS = {
    StepKind.UNPLUGGED: tr("Unplugged"), StepKind.UNBOLTED: tr("Unbolted"), StepKind.CLAMPED: tr("Clamped off"),
    StepKind.LIFTED: tr("Lifted off"), StepKind.DRAINED: tr("Drained"), StepKind.BROKE: tr("Broke: to the parts list"),
    StepKind.APART: tr("Taken apart"),
}  # fmt: skip
LINE_STATES = {
    LineState.OFFER: tr("Offer"), LineState.WANTED: tr("Wanted"), LineState.ORDERED: tr("Ordered"), LineState.CAME: tr("Came"),
    LineState.FITTED: tr("Fitted"), LineState.SENT_BACK: tr("Sent back"),
}  # fmt: skip
SEEN_MARKS = {
    SeenMark.WATCH: tr("Watch"), SeenMark.NOT_NOW: tr("Not now"), SeenMark.QUOTE: tr("Quote"), SeenMark.DONE: tr("Done"),
}  # fmt: skip
PLACES = {
    Place.PLUG: tr("Plug"), Place.SENSOR: tr("Sensor"), Place.WHEEL: tr("Wheel"), Place.MODULE: tr("Module"), Place.FUSE: tr("Fuse box"),
    Place.TIMING: tr("Timing drive"),
}  # fmt: skip
WIRES = {
    WireIs.SUPPLY: tr("Feed"), WireIs.SIGNAL: tr("Signal"), WireIs.GROUND: tr("Return"), WireIs.COIL: tr("Coil's other leg"),
    WireIs.SHIELD: tr("Shield"), WireIs.OTHER: tr("Other"),
}  # fmt: skip


def card_point(name: str) -> str:
    """A point of a published value: what a wire carries in words, a pin or any other name as it stands on the card."""
    return lowered(WIRES[WireIs(name)]) if name in set(WireIs) else name


def card_points(names: tuple[str, ...]) -> str:
    """The points that a published value lies between."""
    return joined_and(card_point(name) for name in names)


#: where a block is struck, as sheets name it, and in words
STRUCK_AT = {"front": tr("front"), "middle": tr("middle"), "rear": tr("rear")}


def struck_at(place: str) -> str:
    """Where a block was struck, in words; a place of anybody's own as it is."""
    return STRUCK_AT.get(place, place)


def struck_place(words: str) -> str:
    """The same as sheets name it, from what was typed."""
    return next(
        (place for place, said in STRUCK_AT.items() if words.strip().casefold() == said.casefold()), words.strip()
    )


PATTERN_SOURCES = {
    PatternSource.AFTER_REPAIR: tr("after a proven repair"), PatternSource.TWIN: tr("the twin bank"),
    PatternSource.ANOTHER_MACHINE: tr("another machine of the kind"), PatternSource.PRINTED: tr("the maker's printed picture"),
}  # fmt: skip
JUDGED = {Judged.INSIDE: tr("inside"), Judged.OUTSIDE: tr("outside"), Judged.TOO_CLOSE: tr("too close to say")}
QUANTITIES = {
    CardQuantity.OHM: "Ω", CardQuantity.VOLT: "V", CardQuantity.MILLIAMPERE: "mA", CardQuantity.HERTZ: "Hz",
    CardQuantity.KILOPASCAL: "kPa", CardQuantity.DEGREE: "°", CardQuantity.PERCENT: "%", CardQuantity.SHOWN: tr("shown"),
}  # fmt: skip


OCCASIONS = {
    Occasion.HOT: tr("Hot"),
    Occasion.COLD: tr("Cold"),
    Occasion.WET: tr("Wet"),
    Occasion.REVVED: tr("Revved"),
    Occasion.BUMPS: tr("Over bumps"),
    Occasion.ALWAYS: tr("Always"),
}
OCCASIONS_SAID = {
    Occasion.HOT: tr("when hot"),
    Occasion.COLD: tr("when cold"),
    Occasion.WET: tr("when wet"),
    Occasion.REVVED: tr("when revved"),
    Occasion.BUMPS: tr("over bumps"),
    Occasion.ALWAYS: tr("always"),
}
ENGINE_RUNS_SAID = {
    EngineRuns.YES: tr("the engine runs"),
    EngineRuns.NO: tr("the engine does not run"),
    EngineRuns.AT_TIMES: tr("the engine runs at times"),
}
THINGS = {
    Thing.SENSOR: tr("Sensor"),
    Thing.TIP: tr("Sensor's tip"),
    Thing.SEAT: tr("Sensor's seat"),
    Thing.WHEEL: tr("Wheel"),
    Thing.PLUG: tr("Plug and pins"),
    Thing.SIGNAL_WIRE: tr("Signal wire"),
    Thing.SUPPLY_WIRE: tr("Feed wire"),
    Thing.GROUND_WIRE: tr("Return wire"),
    Thing.HARNESS: tr("Harness"),
    Thing.SHIELD: tr("Shield"),
    Thing.FUSE: tr("Fuse"),
    Thing.RELAY: tr("Relay"),
    Thing.GROUND_POINT: tr("Ground point"),
    Thing.MODULE: tr("Module"),
    Thing.TIMING: tr("Belt or chain"),
    Thing.ENGINE: tr("Battery, starter, engine"),
}


def said_number(value: float, digits: int = 3) -> str:
    """A number to so many figures, without powers of ten.

    >>> said_number(1234.5), said_number(0.00123), said_number(12.0)
    ('1230', '0.00123', '12.0')
    """
    if not value:
        return "0"
    places = digits - 1 - math.floor(math.log10(abs(value)))
    return figure(round(value, places), f".{max(places, 0)}f")


def said_ohms(ohm: float) -> str:
    """A resistance as a technician says it.

    >>> said_ohms(0.35), said_ohms(860.0), said_ohms(2200.0), said_ohms(1.3e6), said_ohms(4e7)
    ('0.35 ohm', '860 ohm', '2.20 kohm', '1.30 Mohm', 'over range')
    """
    if ohm >= OVER_RANGE_OHM:
        return tr("over range")
    for factor, unit in ((1e6, tr("Mohm")), (1e3, "kohm")):
        if ohm >= factor:
            return f"{said_number(ohm / factor)} {unit}"
    return tr("{ohm} ohm", ohm=said_number(ohm, 2 if ohm < 10 else 3))


def said_volts(volts: float) -> str:
    """A voltage as a technician says it: millivolts below a tenth of a volt.

    >>> said_volts(0.042), said_volts(4.8), said_volts(12.55)
    ('42 mV', '4.80 V', '12.6 V')
    """
    return tr("{volts:.0f} mV", volts=1e3 * volts) if abs(volts) < 0.1 else f"{said_number(volts)} V"


def said_range(low: float, high: float, ohms: bool) -> str:
    """A range of readings.

    >>> said_range(0.002, 0.06, False), said_range(780, 960, True), said_range(4.9, 5.0, False)
    ('2 to 60 mV', '780 to 960 ohm', '4.90 to 5.00 V')
    """
    one, other = (said_ohms(low), said_ohms(high)) if ohms else (said_volts(low), said_volts(high))
    if one == other:
        return one if one == tr("over range") else tr("about {one}", one=one)
    first, _, unit = one.rpartition(" ")
    return (
        tr("{first} to {other}", first=first, other=other)
        if other.endswith(" " + unit)
        else tr("{one} to {other}", one=one, other=other)
    )


#: how strongly a reason speaks, from so many bits on
STRENGTHS = ((4.0, tr("strongly")), (1.5, tr("clearly")), (0.0, tr("a little")))


def strength(bits: float) -> str:
    """How strongly a reason speaks, and for which side, as a technician would say it."""
    size = next(text for least, text in STRENGTHS if abs(bits) >= least)
    return tr("{size} {bits}", size=size, bits=tr("for it") if bits > 0 else tr("against it"))


def times_likelier(bits: float) -> str:
    """The figure behind it: "12 times likelier with it than with anything else"."""
    times = 2.0 ** abs(bits)
    return tr(
        "{times} times {bits} with it than with anything else",
        times=said_number(times, 2),
        bits=tr("likelier") if bits > 0 else tr("less likely"),
    )


#: what an estimate is of, by its quantity
ESTIMATES = {
    "contact_ohm": tr("in the contact of the signal pin"),
    "wire_ohm": tr("in the signal wire"),
    "leak_ohm": tr("from the signal wire to ground"),
    "leak_to_feed_ohm": tr("from the signal wire to the feed"),
    "return_ohm": tr("in the return"),
    "feed_ohm": tr("in the feed"),
    "strap_ohm": tr("in the engine's earth"),
    "pull_up_ohm": tr("before the module's pull-up"),
    "load_ohm": tr("at the module's input"),
    "output_on_ohm": tr("left in the output when it conducts"),
    "output_off_ohm": tr("past the output when it should not conduct"),
    "coil_ohm": tr("across the coil"),
    "element_ohm": tr("across the element"),
}


def estimate_text(estimate: Estimate) -> str:
    """How large a fault is: "About 1.2 kohm from the signal wire to ground (0.9 to 1.5 kohm)"."""
    where = ESTIMATES.get(estimate.quantity, "")
    return tr(
        "About {value} {where} ({low}).",
        value=said_ohms(estimate.value),
        where=where,
        low=said_range(estimate.low, estimate.high, True),
    )


def surely(probability: float) -> str:
    """A probability as it is said of a suspect: never more than the record of such calls bears out, never nothing."""
    return tr("{probability:.0f} %", probability=min(max(100.0 * probability, 1.0), 99.0))


def said_minutes(minutes: float) -> str:
    """A time in whole minutes, as it is said: "1 minute", "12 minutes"."""
    return trn("{count} minute", "{count} minutes", max(round(minutes), 1) if minutes > 0 else 0)


#: where a flat line is held
HELD = {"high": tr("held high"), "low": tr("held low"), "middle": tr("held between")}


def pressed_words(shown: tuple[str, ...], pressed: tuple[str, ...]) -> str:
    """What was pressed on a picture board, in words.

    Parameters
    ----------
    shown, pressed : tuple of str
        kinds of picture, as `BoardEntry` has them
    """
    told = [picture_words(label) for label in pressed]
    if not told:
        return tr("none of {count} pictures looks like it", count=len(shown))
    if len(told) == 1:
        return tr("it looks like: {what}", what=told[0])
    return tr("it lies between: {one}, and: {other}", one=told[0], other=told[1])


def picture_words(label: str) -> str:
    """A kind of picture in words.

    Parameters
    ----------
    label : str
        as `BoardEntry` has it
    """
    kind, _, held = label.partition(":")
    if kind == NOTHING_FOUND:
        return tr("nothing wrong")
    return lowered(FINDING_TITLES[FindingKind(kind)]) + (f", {HELD[held]}" if held in HELD else "")
