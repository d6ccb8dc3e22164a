"""The closed sets of words that files, screens and reasoning share, each set once.

Members are their own text: `Role.CRANK == "crank"`, and a member goes into JSON, TOML or SQL as it is. What is said
aloud of them stands in `words.py`.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import TypeVar

from sagen.model.errors import unknown_name

NOTHING_FOUND = "none"  #: what a file calls a recording that shows nothing wrong
OVER_RANGE_OHM = 4e7  #: what "over range" counts as


class SensorKind(StrEnum):
    HALL = "hall"
    RELUCTANCE = "reluctance"
    CURRENT = "current"
    PIEZO = "piezo"


class Capability(StrEnum):
    """What a kind of sensor does and has: what rows of the data, fault modes and checks ask for in place of kinds."""

    TURNS = "turns"  #: reads what turns; else it is struck
    FEED = "feed"  #: a feed reaches it
    SWITCHES = "switches"  #: pulls down a signal wire that the module lifts
    TWO_CURRENTS = "two_currents"  #: tells teeth by the current that it draws
    GENERATES = "generates"  #: makes its own volts, across two wires
    RINGS = "rings"  #: answers a strike
    RETURN = "return"  #: has a return wire of its own
    GROUNDED = "grounded"  #: that return lies at ground, and is no leg of a coil


#: what each kind of sensor does and has
CAPABILITIES: dict[SensorKind, frozenset[Capability]] = {
    SensorKind.HALL: frozenset(
        {Capability.TURNS, Capability.FEED, Capability.SWITCHES, Capability.RETURN, Capability.GROUNDED}
    ),
    SensorKind.RELUCTANCE: frozenset({Capability.TURNS, Capability.GENERATES, Capability.RETURN}),
    SensorKind.CURRENT: frozenset({Capability.TURNS, Capability.FEED, Capability.TWO_CURRENTS}),
    SensorKind.PIEZO: frozenset({Capability.RINGS, Capability.GENERATES, Capability.RETURN, Capability.GROUNDED}),
}


def can(kind: SensorKind, *wanted: Capability) -> bool:
    """Whether a kind of sensor does and has all of these."""
    return CAPABILITIES[kind].issuperset(wanted)


class Role(StrEnum):
    """What a channel of a capture is."""

    CRANK = "crank"
    CAM = "cam"
    SPEED = "speed"
    KNOCK = "knock"
    SUPPLY = "supply"
    GROUND = "ground"
    OTHER = "other"


#: roles that a circuit may have; the others are rails, or only measured
CIRCUIT_ROLES = (Role.CRANK, Role.CAM, Role.SPEED, Role.KNOCK)
#: roles of a sensor that reads a turning wheel
ROTATING_ROLES = (Role.CRANK, Role.CAM, Role.SPEED)
#: those of a wheel on a shaft of the engine: where the engine runs, it turns
ENGINE_ROLES = (Role.CRANK, Role.CAM)


class State(StrEnum):
    """How the machine stands while something is measured or recorded."""

    KEY_ON = "key_on"
    KEY_ON_UNPLUGGED = "key_on_unplugged"
    CRANKING = "cranking"
    START = "start"
    RUNNING = "running"
    ROLLING = "rolling"
    STRIKE = "strike"
    WIGGLE = "wiggle"
    METAL_NEAR = "metal_near"
    METAL_AWAY = "metal_away"
    UNPLUGGED = "unplugged"
    LOADED = "loaded"


#: states that a capture's sheet may name
CAPTURE_STATES = (
    State.KEY_ON, State.CRANKING, State.START, State.RUNNING, State.ROLLING, State.STRIKE, State.WIGGLE,
)  # fmt: skip
#: states in which a meter reading is taken
METER_STATES = (
    State.KEY_ON, State.KEY_ON_UNPLUGGED, State.CRANKING, State.RUNNING, State.WIGGLE, State.METAL_NEAR,
    State.METAL_AWAY, State.UNPLUGGED,
)  # fmt: skip
#: states in which a finding may have been read elsewhere
FINDING_STATES = (*CAPTURE_STATES, State.UNPLUGGED, State.LOADED)
#: states that the simulated recorder knows
RECORDED_STATES = (*CAPTURE_STATES, State.METAL_NEAR, State.METAL_AWAY)
#: states in which the shaft is expected to turn
TURNING = frozenset({State.CRANKING, State.START, State.RUNNING, State.ROLLING})
#: states in which the starter turns the engine
STARTING = frozenset({State.CRANKING, State.START})
#: states in which the engine, or the wheel, turns by itself
ENGINE_RUNS = frozenset({State.RUNNING, State.WIGGLE, State.ROLLING})
#: states in which the sensor's plug is open
PLUG_OPEN = frozenset({State.KEY_ON_UNPLUGGED, State.UNPLUGGED})


class Connection(StrEnum):
    """How a knock sensor stands while it is struck."""

    UNPLUGGED = "unplugged"
    LOADED = "loaded"
    PLUGGED = "plugged"


class Point(StrEnum):
    """Where a probe goes."""

    SUPPLY = "supply"
    SIGNAL = "signal"
    GROUND = "ground"
    SHIELD = "shield"
    SENSOR = "sensor"
    SUPPLY_WIRE = "supply_wire"
    SIGNAL_WIRE = "signal_wire"
    GROUND_WIRE = "ground_wire"


#: points at which ohms are measured, both ends unplugged; at the others volts against battery negative
OHM_POINTS = (Point.SENSOR, Point.SUPPLY_WIRE, Point.SIGNAL_WIRE, Point.GROUND_WIRE)


class Quantity(StrEnum):
    VOLTS = "volts"
    OHMS = "ohms"


class Part(StrEnum):
    """What is replaced or mended; a key of `[part]` in evidence.toml."""

    SENSOR = "sensor"
    HARNESS = "harness"
    WHEEL = "wheel"
    SEAT = "seat"
    MODULE = "module"
    SUPPLY = "supply"
    GROUND = "ground"
    TIMING = "timing"
    ENGINE = "engine"


#: other words for parts that files may use
PART_ALIASES = {
    "wiring": Part.HARNESS, "reluctor": Part.WHEEL, "fuse": Part.SUPPLY, "relay": Part.SUPPLY, "belt": Part.TIMING,
    "chain": Part.TIMING, "battery": Part.ENGINE, "starter": Part.ENGINE, "air_gap": Part.SEAT,
}  # fmt: skip


class Thing(StrEnum):
    """What can be looked at in free words; a key of `[looked]` in evidence.toml."""

    SENSOR = "sensor"
    TIP = "tip"
    SEAT = "seat"
    WHEEL = "wheel"
    PLUG = "plug"
    SIGNAL_WIRE = "signal_wire"
    SUPPLY_WIRE = "supply_wire"
    GROUND_WIRE = "ground_wire"
    HARNESS = "harness"
    SHIELD = "shield"
    FUSE = "fuse"
    RELAY = "relay"
    GROUND_POINT = "ground_point"
    MODULE = "module"
    TIMING = "timing"
    ENGINE = "engine"


class Origin(StrEnum):
    ORIGINAL = "original"
    AFTERMARKET = "aftermarket"
    UNKNOWN = "unknown"
    USED = "used"


class Position(StrEnum):
    INTAKE = "intake"
    EXHAUST = "exhaust"


class CodeKind(StrEnum):
    """What kind of failure a trouble code tells of."""

    CIRCUIT = "circuit"
    RANGE = "range"
    LOW = "low"
    HIGH = "high"
    INTERMITTENT = "intermittent"
    CORRELATION = "correlation"
    FEED = "feed"
    PHASER = "phaser"
    VOLTAGE = "voltage"
    POWER = "power"
    STARTER = "starter"
    MODULE = "module"
    RELEARN = "relearn"


class Complaint(StrEnum):
    NO_START = "no_start"
    LONG_CRANK = "long_crank"
    STALLS = "stalls"
    RUNS_ROUGH = "runs_rough"
    NO_POWER = "no_power"
    LAMP_ONLY = "lamp_only"
    NO_SPEED_DISPLAY = "no_speed_display"


class Occasion(StrEnum):
    """When a complaint comes."""

    HOT = "hot"
    COLD = "cold"
    WET = "wet"
    REVVED = "revved"
    BUMPS = "bumps"
    ALWAYS = "always"


class Scan(StrEnum):
    """What the module itself shows."""

    RPM_CRANKING = "rpm_cranking"
    CODES_BACK = "codes_back"


class CodesBack(StrEnum):
    """When a code comes back after it was cleared."""

    AT_ONCE = "at once"
    ON_A_DRIVE = "on a drive"
    NEVER = "never"


class Gear(StrEnum):
    """What a check takes; eyes, parts and what the codes were read with are always at hand."""

    METER = "meter"
    SCOPE = "scope"
    EYES = "eyes"
    PARTS = "parts"
    TESTER = "tester"


#: gear that may be missing
CHOSEN_GEAR = (Gear.METER, Gear.SCOPE)


class Place(StrEnum):
    """What has to be got at before something can be done there; open until it is closed."""

    PLUG = "plug"
    SENSOR = "sensor"
    WHEEL = "wheel"
    MODULE = "module"
    FUSE = "fuse"
    TIMING = "timing"


class WireIs(StrEnum):
    """What a wire of a circuit carries."""

    SUPPLY = "supply"
    SIGNAL = "signal"
    GROUND = "ground"
    COIL = "coil"  #: the other leg of a coil, where neither is the return
    SHIELD = "shield"
    OTHER = "other"


class CardQuantity(StrEnum):
    """What a published value is of, by its unit."""

    OHM = "ohm"
    VOLT = "V"
    MILLIAMPERE = "mA"
    HERTZ = "Hz"
    KILOPASCAL = "kPa"
    DEGREE = "degree"
    PERCENT = "%"
    SHOWN = "shown"  #: a number that the module displays


class RelearnKind(StrEnum):
    """How what a part has changed is taught to the module again."""

    NONE = "none"
    BY_ITSELF = "by_itself"
    DRIVEN = "driven"
    COMMANDED = "commanded"
    KEY_CYCLES = "key_cycles"
    IDLE = "idle"


class StepKind(StrEnum):
    """What was done in a step of taking something apart."""

    UNPLUGGED = "unplugged"
    UNBOLTED = "unbolted"
    CLAMPED = "clamped"
    LIFTED = "lifted"
    DRAINED = "drained"
    BROKE = "broke"
    APART = "apart"  #: not said how


class LineState(StrEnum):
    """How far a part line has come."""

    OFFER = "offer"
    WANTED = "wanted"
    ORDERED = "ordered"
    CAME = "came"
    FITTED = "fitted"
    SENT_BACK = "sent_back"


class SeenMark(StrEnum):
    """What becomes of a second fault that was seen on the way."""

    WATCH = "watch"
    NOT_NOW = "not_now"
    QUOTE = "quote"
    DONE = "done"


class ProofStep(StrEnum):
    """What a repair still owes, in the order in which it is done."""

    MEASURED = "measured"
    CLEARED = "cleared"
    READ_NOW = "read_now"
    RELEARN = "relearn"
    DRIVEN = "driven"
    READ_AFTER = "read_after"
    STAYED_AWAY = "stayed_away"


class PatternSource(StrEnum):
    """Where a known-good capture is from."""

    AFTER_REPAIR = "after_repair"
    TWIN = "twin"
    ANOTHER_MACHINE = "another_machine"
    PRINTED = "printed"


class Judged(StrEnum):
    """A reading against its limits."""

    INSIDE = "inside"
    OUTSIDE = "outside"
    TOO_CLOSE = "too_close"


class Strategy(StrEnum):
    """How checks are ranked."""

    MOST = "most"  #: what separates most a minute
    METER = "meter"
    SCOPE = "scope"


class CheckKind(StrEnum):
    METER = "meter"
    CAPTURE = "capture"
    LOOK = "look"
    SCAN = "scan"
    SWAP = "swap"


class Cause(StrEnum):
    SENSOR = "sensor"
    AIR_GAP = "air_gap"
    RELUCTOR = "reluctor"
    WIRING = "wiring"
    SUPPLY = "supply"
    GROUND = "ground"
    MODULE = "module"
    TIMING = "timing"
    ENGINE = "engine"
    INTERFERENCE = "interference"
    NONE = "none"


class FindingKind(StrEnum):
    NO_SIGNAL = "no_signal"
    LOW_NOT_PULLED_DOWN = "low_not_pulled_down"
    HIGH_NOT_REACHED = "high_not_reached"
    WEAK_AMPLITUDE = "weak_amplitude"
    EXTRA_GAP = "extra_gap"
    ODD_TOOTH = "odd_tooth"
    RUNOUT = "runout"
    ERRATIC = "erratic"
    DROPOUT = "dropout"
    SUPPLY_LOSS = "supply_loss"
    GROUND_LIFT = "ground_lift"
    REVERSED_POLARITY = "reversed_polarity"
    WRONG_PATTERN = "wrong_pattern"
    TIMING_OFFSET = "timing_offset"
    TIMING_SCATTER = "timing_scatter"
    NOISE = "noise"
    WEAK_STRIKE = "weak_strike"
    RING_MISMATCH = "ring_mismatch"
    LOADED_DOWN = "loaded_down"
    UNDERSAMPLED = "undersampled"
    CLIPPED = "clipped"
    TOO_SHORT = "too_short"


#: findings that say the capture is unfit, not what the machine has
ABOUT_CAPTURE = frozenset({FindingKind.UNDERSAMPLED, FindingKind.CLIPPED, FindingKind.TOO_SHORT})
#: findings that compare a cam with its crank
ABOUT_TIMING = frozenset({FindingKind.TIMING_OFFSET, FindingKind.TIMING_SCATTER})
#: findings of feed and return
ABOUT_RAILS = frozenset({FindingKind.SUPPLY_LOSS, FindingKind.GROUND_LIFT})
#: the fields that a finding may carry beside kind, channel, severity and text
FINDING_FIELDS = (
    "held", "level_v", "tooth", "angle_deg", "repeats", "depth", "share", "start_s", "end_s", "slots", "missing",
    "offset_deg", "belt_teeth", "scatter_deg", "ratio", "frequency_hz",
)  # fmt: skip


class Leg(StrEnum):
    """A stage of the way of a job, in the order of the work."""

    CAME_IN = "came in"
    MEASURED = "measured"
    FOUND = "what it is"
    DONE = "done"
    PROVEN = "proven"
    PAPERS = "papers"


class CodeStatus(StrEnum):
    STORED = "stored"
    PENDING = "pending"
    PERMANENT = "permanent"


class EngineRuns(StrEnum):
    """What is known of whether the engine runs."""

    YES = "yes"
    NO = "no"
    AT_TIMES = "at times"


class EntryKind(StrEnum):
    """Kinds of trail entries, as the log keeps them."""

    COMPLAINT = "complaint"
    CODE = "code"
    CAPTURE = "capture"
    FINDING = "finding"
    NOTE = "note"
    REPAIR = "repair"
    PROOF = "proof"
    READING = "reading"
    INSPECTION = "inspection"
    REPLACED = "replaced"
    CIRCUIT = "circuit"
    SCAN = "scan"
    STAYED = "stayed"
    DECISION = "decision"
    CARD = "card"
    VALUE = "value"
    PLACE = "place"
    STEP = "step"
    PART = "part"
    SEEN = "seen"
    PHOTO = "photo"
    COSTS = "costs"
    BOARD = "board"
    DAMAGED = "damaged"  #: a row that cannot be read
    NEWER = "newer"  #: written by a newer Sagen


Word = TypeVar("Word", bound=StrEnum)


def word(kind: type[Word], text: object, what: str, among: Iterable[Word] | None = None) -> Word:
    """`text` as a member of a closed set, or of a part of one.

    Raises
    ------
    ValueError
        naming the nearest word that it may be.
    """
    known = tuple(among) if among is not None else tuple(kind)
    try:
        found = kind(text)
    except ValueError:
        found = None
    if found is None or found not in known:
        raise ValueError(f"{what}: {unknown_name('value', str(text), [item.value for item in known])}")
    return found
