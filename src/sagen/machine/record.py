"""What a recorder sees when it is clipped to the simulated machine."""

from __future__ import annotations

import numpy as np

from sagen.machine.simulated import SimulatedMachine
from sagen.machine.solve import OPEN, solve
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.model.vocabulary import ENGINE_RUNS, STARTING, Role, SensorKind, State

FIRING_A = 0.35  #: how far the starter's current follows compression
MOST_SAMPLES = 200_000_000


def shaft_turns(machine: SimulatedMachine, state: str, times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Angle (turns) and speed (turns a second) of the crank, or of the wheel's own shaft, at each time (s).

    In closed form: the base speed, compression `cylinders / 2` times a turn, one weak cylinder once in two.

    Parameters
    ----------
    machine : SimulatedMachine
    state : str
        cranking, idle and so on
    times : ndarray, shape (n,)
        s

    Returns
    -------
    turns, speed : ndarray, shape (n,)
    """
    spec = machine.spec
    rpm = {State.RUNNING: machine.idle_rpm, State.WIGGLE: machine.idle_rpm, State.ROLLING: machine.roll_rpm}.get(
        state, machine.crank_rpm
    )
    if spec.role == Role.SPEED:
        rpm = machine.roll_rpm
    if not machine.turns or state in (State.KEY_ON, State.STRIKE):
        return np.zeros(len(times)), np.zeros(len(times))
    ripple, uneven = (
        (machine.ripple, machine.uneven) if state in STARTING else (0.12 * machine.ripple, 0.1 * machine.uneven)
    )
    if spec.role == Role.SPEED:
        ripple = uneven = 0.002
    began = np.maximum(times - 0.12, 0.0) if state == State.START else times
    hz = rpm / 60.0
    turns = hz * began
    speed = np.full(len(times), hz)
    if state == State.START:
        # From rest within a quarter of a second; fires after a second and a half and runs up to idle.
        run_up = 0.22
        turning = np.where(began < run_up, began**2 / (2 * run_up), began - run_up / 2)
        fires, idle = 1.5, machine.idle_rpm / 60.0
        after = np.maximum(began - fires, 0.0)
        gained = (idle - hz) * (after - 0.5 * (1 - np.exp(-after / 0.5)))
        turns = hz * turning + gained
        speed = hz * np.minimum(began / run_up, 1.0) + (idle - hz) * (1 - np.exp(-after / 0.5))
    order = max(machine.cylinders, 1) / 2
    phase = 2 * np.pi * turns
    angle = (
        turns
        + ripple / order * np.sin(order * phase + 0.4) / (2 * np.pi)
        + uneven / 0.5 * np.sin(0.5 * phase + 1.1) / (2 * np.pi)
    )
    speed = speed * (1 + ripple * np.cos(order * phase + 0.4) + uneven * np.cos(0.5 * phase + 1.1))
    return angle + float(machine.rng.uniform()), speed


def record(
    machine: SimulatedMachine,
    state: str = "cranking",
    *,
    seconds: float = 2.0,
    sfreq: float = 50_000.0,
    cylinders: int = 4,
    name: str = "simulated.csv",
) -> tuple[Capture, Sheet]:
    """Record the circuit's signal, with feed and return where it has them, and the crank beside a cam.

    Parameters
    ----------
    seconds, sfreq : float > 0

    Returns
    -------
    capture, sheet
        channels CH1 (the signal), CH2, ... in volts
    """
    count = int(np.clip(round(seconds * sfreq), 16, MOST_SAMPLES))
    times = np.arange(count) / sfreq
    machine.cylinders = cylinders
    turns, speed = shaft_turns(machine, state, times)
    columns, tables = machine.part.record(machine, state, times, turns, speed, sfreq)
    channels = tuple(Channel(f"CH{i + 1}", _digitised(machine, volts), "V") for i, volts in enumerate(columns))
    rows = [{"column": f"CH{i + 1}", **table} for i, table in enumerate(tables)]
    sheet = Sheet.from_data(
        {"engine": {"cylinders": cylinders}, "conditions": machine.part.conditions(machine, state), "channel": rows}
    )
    return Capture(name, sfreq, channels), sheet


def _digitised(machine: SimulatedMachine, volts: np.ndarray) -> np.ndarray:
    if machine.bits:
        top = 1.2 * max(float(np.abs(volts).max()), 0.05)
        step = 2 * top / 2**machine.bits
        volts = np.round(volts / step) * step
    return volts.astype(np.float32)


# Teeth before the sensor --------------------------------------------------------------------------


def tooth_place(machine: SimulatedMachine, turns: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Pitches from the nearest tooth's centre, and its strength there (0 where there is none), by sample.

    Parameters
    ----------
    machine : SimulatedMachine
        with a wheel
    turns : ndarray, shape (n,)
        angle of the wheel's shaft

    Returns
    -------
    place, strength : ndarray, shape (n,)
        pitches, -0.5 to 0.5, and 0 to 1
    """
    slots, teeth = machine.wheel.slots, machine.teeth
    place = turns * slots
    index = np.floor(place).astype(np.int64)
    slot = index % slots
    first, last = int(index.min(initial=0)), int(index.max(initial=0))
    many = last - first + 1
    rng = machine.rng
    moved = teeth.shift[np.arange(first, last + 1) % slots] + machine.place_wander * rng.normal(size=many)
    strength = np.where(teeth.there, teeth.tall, 0.0)[np.arange(first, last + 1) % slots]
    once = 1 + machine.runout * np.cos(2 * np.pi * (np.arange(first, last + 1) / slots - 0.3))
    strength = (
        strength * once * np.maximum(1 + machine.gap_wander * rng.normal(size=many), 0.0) * machine.field_strength
    )
    within = place - index - 0.5 - np.clip(moved, -0.45, 0.45)[index - first]
    return within / teeth.wide[slot], strength[index - first]


def _switched(machine: SimulatedMachine, turns: np.ndarray) -> np.ndarray:
    """Whether the field is strong enough for the output to conduct: half a pitch wide at the usual gap."""
    within, strength = tooth_place(machine, turns)
    with np.errstate(divide="ignore", invalid="ignore"):
        half = np.arccos(np.clip(1.0 / np.maximum(strength, 1e-9) - 1.0, -1.0, 1.0)) / (2 * np.pi)
    return (np.abs(within) < half) & (strength > 0.5)


# Switching and current sensors ---------------------------------------------------------------------


def record_powered(machine: SimulatedMachine, state: str, times, turns, speed, sfreq):
    """A fed sensor: the output switches between two solved circuits; the wire's charge follows.

    Parameters
    ----------
    machine : SimulatedMachine
    state : str
    times, turns, speed : ndarray, shape (n,)
        s, turns of the wheel's shaft, turns a second
    sfreq : float
        samples a second

    Returns
    -------
    ndarray, shape (n,)
        V

    References
    ----------
    Charge of the wire over a resistance: exponential of one time constant, Horowitz and Hill, The Art of Electronics (2015), 1.4.2. From
    memory.
    """
    if machine.spec.role == Role.CAM:
        conducting = _cam_low(machine, turns, times)
    elif state == State.METAL_NEAR:
        conducting = np.ones(len(times), bool)
    else:
        conducting = _switched(machine, turns) if speed.any() else np.zeros(len(times), bool)
    count = len(times)
    crank = machine.values.crank_a * machine.crank_sag if state in STARTING else 0.0
    amps = crank * (1 + FIRING_A * np.cos(2 * np.pi * turns * 2)) if crank else np.zeros(count)
    if state == State.START:
        amps = amps * (times < 1.62)
    live = {
        "battery": (machine.values.running_v if state in ENGINE_RUNS else machine.values.battery_v)
        - amps * machine.values.battery_ohm,
        "lift": amps * machine.values.strap_ohm + machine.values.ground_offset_v + _lifts(machine, count),
    }
    signal, supply, ground = (np.empty(count) for _ in range(3))
    kind = np.zeros(count, np.int8)
    topologies = [machine]
    for cause, stretches in parted(machine, state, count).items():
        topologies.append(with_open(machine, cause))
        for start, end in stretches:
            kind[start:end] = len(topologies) - 1
    gone = spans(machine.drops, count)
    for start, end in gone:
        conducting[start:end] = machine.drop_level == "low"
    lag = np.empty((len(topologies), 2))
    probe = ("plug_signal", machine.values.recorder_ohm)
    target = np.empty(count)
    for index, topology in enumerate(topologies):
        for on in (False, True):
            chosen = (kind == index) & (conducting == on)
            solved = solve(topology, state, conducting=on, instrument=probe)
            here = {name: values[chosen] for name, values in live.items()}
            target[chosen] = solved.volts("plug_signal", **here)
            supply[chosen] = solved.volts("plug_supply", **here)
            ground[chosen] = solved.volts("plug_ground", **here)
            farads = machine.values.input_f + machine.values.wire_f + machine.values.recorder_f
            lag[index, int(on)] = solved.network.resistance("plug_signal", "0") * min(farads, 1e-6)
    signal[:] = _settled(target, kind * 2 + conducting, lag.ravel(), sfreq)
    rng = machine.rng
    signal += disturbed(machine, state, times, sfreq) + rng.normal(0, machine.noise_v, count)
    supply += rng.normal(0, machine.noise_v, count) + _whine(machine, state, times)
    ground += rng.normal(0, 0.5 * machine.noise_v, count)
    columns, tables = [signal], [signal_table(machine)]
    if machine.spec.role == Role.CAM:
        columns.append(crank_beside(machine, turns))
        tables.append(dict(CRANK_TABLE))
    columns.append(supply)
    tables.append({"role": Role.SUPPLY, "nominal": 5.0 if machine.spec.regulated else max(machine.spec.supply_v, 12.0)})
    if machine.part.own_return:
        columns.append(ground)
        tables.append({"role": Role.GROUND})
    return columns, tables


def signal_table(machine: SimulatedMachine) -> dict:
    """The row of the sheet that describes the signal's channel.

    Parameters
    ----------
    machine : SimulatedMachine
        its circuit as it stands

    Returns
    -------
    dict
        keys of a sheet's channel; V, ohm
    """
    spec = machine.spec
    table = {"role": spec.role, "sensor": spec.sensor}
    if spec.role in (Role.CRANK, Role.SPEED):
        table["wheel"] = str(spec.declared_wheel or machine.wheel)
    return table | machine.part.described(machine)


def _settled(target: np.ndarray, state: np.ndarray, lag: np.ndarray, sfreq: float) -> np.ndarray:
    """A capacitor's voltage that follows `target`, with the time constant (s) of each state.

    Between changes of state the course is exponential; only the changes are walked through.
    """
    change = np.concatenate([[0], np.flatnonzero(np.diff(state)) + 1])
    lengths = np.diff(np.append(change, len(target)))
    tau = np.maximum(lag[state[change]] * sfreq, 1e-6)  # in samples
    start = np.empty(len(change))
    value = float(target[0])
    last = target[np.append(change[1:] - 1, len(target) - 1)]
    decay = np.exp(-np.minimum(lengths / tau, 700.0))
    for index in range(len(change)):
        start[index] = value - target[change[index]]
        value = float(last[index] + start[index] * decay[index])
    which = np.repeat(np.arange(len(change)), lengths)
    since = np.arange(len(target)) - change[which] + 1.0
    return target + start[which] * np.exp(-np.minimum(since / tau[which], 700.0))


def spans(shares, count: int) -> list[tuple[int, int]]:
    """Pieces of so many samples, a list of (first, last) with last left out, that shares from 0 to 1 stand for.

    Parameters
    ----------
    shares : iterable of (float, float)
        begin and end as shares of the whole
    count : int
        samples of the whole
    """
    return [(int(a * count), int(b * count)) for a, b in shares]


def _lifts(machine: SimulatedMachine, count: int) -> np.ndarray:
    lift = np.zeros(count)
    for start, end, volts in machine.ground_lifts:
        lift[int(start * count) : int(end * count)] += volts
    return lift


def parted(machine: SimulatedMachine, state: str, count: int) -> dict[str, list[tuple[int, int]]]:
    """Stretches of the recording in which a wire is parted.

    Parameters
    ----------
    machine : SimulatedMachine
        with wires that part at times
    state : str
    count : int
        samples of the recording

    Returns
    -------
    dict
        wire to (first, last) samples, last left out
    """
    found: dict[str, list[tuple[int, int]]] = {}
    if machine.feed_drops:
        found["supply"] = spans(machine.feed_drops, count)
    if machine.return_drops:
        found["return contact"] = spans(machine.return_drops, count)
    if machine.wiggle and state == State.WIGGLE:
        rng = machine.rng
        stretches = []
        for start in np.sort(rng.uniform(0.05, 0.9, int(rng.integers(3, 7)))):
            stretches.append((int(start * count), int(min(start + rng.uniform(0.01, 0.06), 1.0) * count)))
        found.setdefault(machine.wiggle, []).extend(stretches)
    return found


def with_open(machine: SimulatedMachine, wire: str) -> SimulatedMachine:
    # The feed is lost upstream of the probe and a bad contact lies below it, the others are lost at the plug.
    """The machine with one wire parted.

    Parameters
    ----------
    machine : SimulatedMachine
        left as it is
    wire : str
        by its name in the circuit
    """
    name, ohm = {
        "supply": ("feed_wire_ohm", OPEN),
        "signal": ("signal_pin_ohm", OPEN),
        "ground": ("ground_pin_ohm", OPEN),
        "return contact": ("ground_wire_ohm", machine.bad_return_ohm),
    }[wire]
    other = machine.copy()
    setattr(other.values, name, ohm)
    return other


def disturbed(machine: SimulatedMachine, state: str, times: np.ndarray, sfreq: float) -> np.ndarray:
    """Ignition spikes and what the alternator adds to the signal.

    Parameters
    ----------
    machine : SimulatedMachine
    state : str
    times : ndarray, shape (n,)
        s
    sfreq : float
        samples a second

    Returns
    -------
    ndarray, shape (n,)
        V to be added

    References
    ----------
    Kinds of disturbance of a car's supply: ISO 7637-2 and ISO 16750-2, 4.4 (superimposed alternating voltage); heights are common practice.
    From memory.
    """
    out = _whine(machine, state, times)
    rng = machine.rng
    for at in rng.uniform(0, times[-1], rng.poisson(machine.spikes * times[-1])) if machine.spikes else ():
        first, length = int(at * sfreq), max(2, int(rng.uniform(50e-6, 220e-6) * sfreq))
        ring = (
            machine.spike_v
            * np.exp(-np.arange(length) / (length / 2.5))
            * np.cos(np.arange(length) * 1.15)
            * rng.choice([-1, 1])
        )
        out[first : first + length] += ring[: len(out[first : first + length])]
    return out


def _whine(machine: SimulatedMachine, state: str, times: np.ndarray) -> np.ndarray:
    if not machine.whine_v or state not in ENGINE_RUNS:
        return np.zeros(len(times))
    # Six pulses a turn of a six-pole-pair alternator that turns 2.4 times as fast as the crank.
    hertz = machine.idle_rpm / 60 * 2.4 * 36
    return machine.whine_v * (np.abs(np.sin(np.pi * hertz * times)) - 0.637)


# Cam ----------------------------------------------------------------------------------------------


#: what the crank channel recorded beside a cam is
CRANK_TABLE = {"role": Role.CRANK, "sensor": SensorKind.HALL, "wheel": "60-2", "pull_up": 5.0}


def cam_lateness(machine: SimulatedMachine, turns: np.ndarray, times: np.ndarray) -> np.ndarray:
    """By how many crank degrees the cam is late at each sample: its offset, its wander, and a phaser's travel.

    Parameters
    ----------
    machine : SimulatedMachine
    turns : ndarray, shape (n,)
        of the crank
    times : ndarray, shape (n,)
        s

    Returns
    -------
    ndarray, shape (n,)
        crank degrees
    """
    cycles = int(turns.max(initial=0.0) / 2) + 3
    wander = np.interp(turns / 2, np.arange(cycles), machine.cam_wander * machine.rng.normal(size=cycles))
    moved = machine.phaser_deg / (1 + np.exp(-(times - 0.5 * times[-1]) / 0.1)) if machine.phaser_deg else 0.0
    return machine.cam_late + wander + moved


def _cam_low(machine: SimulatedMachine, turns: np.ndarray, times: np.ndarray) -> np.ndarray:
    angle = turns * 360.0 - cam_lateness(machine, turns, times)
    cycle = np.floor(angle / 720.0).astype(np.int64)
    first = int(cycle.min())
    low = np.zeros(len(turns), bool)
    for start, end in machine.windows:
        # A gap that changes moves the edges of a window, or loses it, anew in each cycle.
        many = int(cycle.max()) - first + 1
        strength = machine.field_strength * np.maximum(1 + machine.gap_wander * machine.rng.normal(size=many), 0.0)
        moved = 60.0 * machine.place_wander * machine.rng.normal(size=(2, many))
        now = cycle - first
        within = angle - 720.0 * cycle
        low |= (within >= start + moved[0][now]) & (within < end + moved[1][now]) & (strength[now] > 0.5)
    return low


def crank_beside(machine: SimulatedMachine, turns: np.ndarray) -> np.ndarray:
    """The crank's own signal beside a cam's: a fast sound sensor on the machine's crank wheel.

    Parameters
    ----------
    machine : SimulatedMachine
    turns : ndarray, shape (n,)
        of the crank

    Returns
    -------
    ndarray, shape (n,)
        V
    """
    place = (turns % 1.0) * 60
    low = (place % 1.0 < 0.5) & (place < 58)
    return np.where(low, 0.12, 4.93) + machine.rng.normal(0, 0.012, len(turns))
