"""Machines of another make: a world to be judged in that shares no code and no constants with `sagen.machine`.

Circuits are worked out by hand (currents that sensors draw, saturation voltages, two nodes and a divider), faults have
their own names, shares and sizes, modules their own designs. A recording is not drawn: what a reader makes of it is
thrown, one finding in eleven missed and one clean picture in twelve spoiled, as readers were measured to do. One reading
in forty is taken at another pin or in another state, and one look in twenty is misjudged.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from sagen.model.circuit import CircuitSpec
from sagen.reason.evidence import Captured, Code, Complained, Cranked, Evidence, Inspected, MeterReading, Scanned

SLIPS, MISJUDGED, MISSED, SPOILED = 0.025, 0.05, 0.09, 0.08

#: family -> what the job states of it
STATED = {
    "crank hall": {"role": "crank", "sensor": "hall", "wheel": "60-2"},
    "cam hall": {"role": "cam", "sensor": "hall", "wheel": "4"},
    "crank coil": {"role": "crank", "sensor": "reluctance", "wheel": "60-2"},
    "speed current": {"role": "speed", "sensor": "current", "wheel": "48"},
    "speed hall": {"role": "speed", "sensor": "hall", "wheel": "48"},
}

#: fault -> (cause, share, families by the kind of sensor, findings of a recording besides what levels give)
FAULTS: dict[str, tuple[str, float, str, dict[str, float]]] = {
    "nothing": ("none", 16, "hall coil current", {}),
    "no output": ("sensor", 8, "hall current", {}),
    "stays low": ("sensor", 2.5, "hall", {}),
    "poor low": ("sensor", 3, "hall", {}),
    "leaky": ("sensor", 2.5, "hall", {}),
    "quits hot": ("sensor", 7, "hall coil current", {"dropout": 0.55}),
    "coil gone": ("sensor", 6, "coil", {}),
    "coil short": ("sensor", 2, "coil", {"weak_amplitude": 0.55}),
    "magnet tired": ("sensor", 3, "coil", {"weak_amplitude": 0.9}),
    "far away": ("air_gap", 5, "hall coil current", {"erratic": 0.45, "weak_amplitude": 0.7}),
    "rocks on its seat": ("air_gap", 5, "hall coil current", {"erratic": 0.85}),
    "tooth gone": ("reluctor", 4, "hall coil current not cam", {"extra_gap": 0.93}),
    "tooth bent or chipped": ("reluctor", 4, "hall coil current not cam", {"odd_tooth": 0.8}),
    "rim out of true": ("reluctor", 2, "hall coil current not cam", {"runout": 0.8}),
    "vane bent": ("reluctor", 2, "hall timed vane", {"odd_tooth": 0.6, "timing_offset": 0.3}),
    "other wheel": ("reluctor", 1, "hall coil current not cam", {"wrong_pattern": 0.8}),
    "pin spread": ("wiring", 4, "hall coil current", {}),
    "signal cut": ("wiring", 4, "hall coil current", {}),
    "signal corroded": ("wiring", 3, "hall coil current", {}),
    "signal chafed": ("wiring", 5, "hall coil current", {}),
    "signal on feed": ("wiring", 1, "hall", {}),
    "harness moves": ("wiring", 5, "hall coil current", {"dropout": 0.2}),
    "colours crossed": ("wiring", 1, "coil", {"reversed_polarity": 0.9}),
    "fuse": ("supply", 3, "hall current", {}),
    "feed cut": ("supply", 3, "hall current", {}),
    "feed corroded": ("supply", 3, "hall current", {}),
    "relay": ("supply", 2.5, "hall current", {"dropout": 0.6, "supply_loss": 0.6}),
    "five volts held down": ("supply", 2, "hall own", {}),
    "return cut": ("ground", 3, "hall coil", {}),
    "return corroded": ("ground", 5, "hall coil", {}),
    "return moves": ("ground", 2.5, "hall", {"dropout": 0.6, "ground_lift": 0.6}),
    "earth strap": ("ground", 2, "hall timed", {}),
    "no pull-up": ("module", 1.5, "hall", {}),
    "input short": ("module", 1.5, "hall coil", {}),
    "belt": ("timing", 3, "hall timed", {"timing_offset": 0.93}),
    "chain": ("timing", 2, "hall timed", {"timing_scatter": 0.75}),
    "weak starter": ("engine", 4, "hall coil timed", {}),
    "lost compression": ("engine", 1.5, "hall coil timed", {}),
    "ignition near": ("interference", 2.5, "hall coil current", {"noise": 0.85}),
}
CODES = {
    "sensor": ("circuit", "circuit", "intermittent", "low", "high"), "air_gap": ("range", "circuit", "intermittent"),
    "reluctor": ("range",), "wiring": ("circuit", "low", "high", "intermittent"), "supply": ("circuit", "feed"),
    "ground": ("circuit", "high", "range"), "module": ("circuit", "low"), "timing": ("correlation", "range"),
    "engine": ("range", "circuit"), "interference": ("range", "intermittent"), "none": ("circuit", "range", "correlation"),
}  # fmt: skip
COMPLAINTS = ("no_start", "long_crank", "stalls", "runs_rough", "lamp_only", "no_power")
#: check -> outcome -> what it is found of, with how often; else as expected
THEMES: dict[str, dict[str, dict[str, float]]] = {
    "plug_and_pins": {"damaged": {"pin spread": 0.85, "signal corroded": 0.55, "signal cut": 0.3, "signal chafed": 0.5, "harness moves": 0.4, "feed corroded": 0.35, "return corroded": 0.35, "return moves": 0.3, "signal on feed": 0.4}},
    "fuse_and_relay_of_the_feed": {"dead_fuse": {"fuse": 0.97}, "relay": {"relay": 0.6}},
    "unplug_what_shares_the_5_v": {"comes_back": {"five volts held down": 0.9}},
    "earth_strap_while_cranking": {"high": {"earth strap": 0.93}},
    "both_ends_of_the_signal_wire": {"differ": {"signal cut": 0.95, "signal corroded": 0.75, "pin spread": 0.1}},
    "load_the_unplugged_signal_wire": {"collapses": {"no pull-up": 0.95, "signal corroded": 0.6, "signal cut": 0.9}},
    "unplug_the_module_measure_wire_to_ground": {"to_ground": {"signal chafed": 0.93}, "to_feed": {"signal on feed": 0.93}},
    "ask_the_starter": {"slow": {"weak starter": 0.9}, "uneven": {"lost compression": 0.85, "belt": 0.2}},
    "wheel_through_the_sensor_s_hole": {"damaged": {"tooth gone": 0.95, "tooth bent or chipped": 0.8, "other wheel": 0.4, "rim out of true": 0.2}},
    "cam_wheel_by_eye": {"damaged": {"vane bent": 0.9}},
    "dial_gauge_on_the_wheel": {"out_of_true": {"rim out of true": 0.93}},
    "seat_and_flange_of_the_sensor": {"springs_up": {"far away": 0.5}, "rust": {"rocks on its seat": 0.5, "far away": 0.25}, "loose": {"rocks on its seat": 0.4}},
    "feeler_gauge_in_the_gap": {"too_wide": {"far away": 0.93, "rocks on its seat": 0.3}, "differs": {"rim out of true": 0.6, "rocks on its seat": 0.3}},
    "sensor_against_its_twin_on_the_bench": {"weak": {"no output": 0.95, "stays low": 0.95, "poor low": 0.9, "leaky": 0.8, "coil gone": 0.97, "coil short": 0.8, "magnet tired": 0.9}},
    "bench_pulses_without_a_scope": {"none": {"no output": 0.95, "stays low": 0.95, "poor low": 0.75, "leaky": 0.6}},
    "sensor_in_the_hand": {"counts_none": {"no output": 0.95, "stays low": 0.95, "poor low": 0.8, "leaky": 0.7}, "misses_some": {"quits hot": 0.1}},
    "pulse_the_signal_wire": {"not_counted": {"signal cut": 0.95, "signal corroded": 0.4, "input short": 0.7, "signal chafed": 0.6, "no pull-up": 0.3}},
    "coil_s_millivolts_on_the_bench": {"weak": {"coil gone": 0.95, "coil short": 0.5, "magnet tired": 0.7}},
    "cam_beside_the_crank": {"moved": {"belt": 0.95}, "wanders": {"chain": 0.7}},
    "timing_marks": {"off": {"belt": 0.96, "chain": 0.3}},
    "warm_the_sensor": {"stops": {"quits hot": 0.75}},
    "watch_while_it_is_warm_and_shaken": {"at_sensor": {"quits hot": 0.7, "rocks on its seat": 0.3}, "at_harness": {"harness moves": 0.85}, "at_relay": {"relay": 0.8}, "at_ground_point": {"return moves": 0.85}},
    "long_record": {"signal_alone": {"quits hot": 0.75, "harness moves": 0.15}, "feed_with_it": {"relay": 0.8}, "return_with_it": {"return moves": 0.8}},
    "drive_with_a_recorder": {"signal_alone": {"quits hot": 0.8, "harness moves": 0.75}, "feed_with_it": {"relay": 0.85}, "return_with_it": {"return moves": 0.85}},
    "ignition_leads_and_routing": {"clears": {"ignition near": 0.85}},
    "wires_crossed_at_the_plug": {"crossed": {"colours crossed": 0.9}},
    "compression_or_relative_cranking_current": {"uneven": {"lost compression": 0.93}},
    "wheel_s_mark_against_dead_centre": {},
}  # fmt: skip


@dataclass
class OtherMachine:
    """One machine: its design, its fault, and what it answers."""

    family: str
    seed: int
    mended: bool = False
    rng: np.random.Generator = field(init=False)

    def __post_init__(self):
        rng = self.rng = np.random.default_rng([self.seed, 4711, *self.family.encode()])
        self.kind = self.family.split()[1]
        self.timed = not self.family.startswith("speed")
        self.own_feed = self.kind == "hall" and rng.random() < (0.7 if self.family.startswith("cam") else 0.45)
        self._design(rng)
        self.fault = str(rng.choice(list(self._possible()), p=self._shares()))
        self.cause = FAULTS[self.fault][0]
        self.how_bad = float(rng.beta(1.1, 1.1))
        self._tell(rng)
        self._break(rng)
        self.readings: dict[tuple, float] = {}

    # what it is -----------------------------------------------------------------------------

    def _design(self, rng) -> None:
        lorry = rng.random() < 0.05
        self.battery = float(rng.normal(12.55, 0.22)) * (2 if lorry else 1)
        self.dips_to = self.battery * float(rng.uniform(0.74, 0.9))
        self.charging = float(rng.normal(14.15, 0.3)) * (2 if lorry else 1)
        self.ref = float(rng.normal(5.0, 0.03))
        self.high_pull = rng.random() < 0.2
        self.r_pull = float(rng.choice([1000.0, 1500.0, 2200.0, 3300.0, 4700.0, 10000.0])) * float(rng.normal(1, 0.02))
        self.r_input = float(rng.choice([1e5, 2.2e5, 4.7e5, 1e6]))
        self.takes = float(rng.uniform(3.5e-3, 16e-3))  # A, constant
        self.saturates = float(rng.uniform(0.02, 0.38))
        self.works_from = float(rng.uniform(3.0, 4.4))
        self.r_feed, self.r_return, self.r_signal = (float(rng.uniform(0.1, 0.7)) for _ in range(3))
        self.lift_key, self.lift_crank = float(rng.uniform(0.002, 0.03)), float(rng.uniform(0.03, 0.2))
        self.r_coil = float(rng.uniform(350, 2600))
        self.bias = float(rng.choice([0.0, 1.4, 2.5]))
        self.r_bias, self.r_coil_load = float(rng.uniform(5e3, 5e4)), float(rng.uniform(1e4, 2e5))
        self.both_legs = self.kind == "coil" and self.bias > 0 and rng.random() < 0.3
        self.low_ma, self.high_ma = 7e-3 * float(rng.normal(1, 0.04)), 14e-3 * float(rng.normal(1, 0.04))
        self.r_shunt = float(rng.choice([75.0, 100.0, 115.0]))
        self.leak, self.to_feed, self.short_in, self.leaks_inside = np.inf, np.inf, np.inf, np.inf
        self.pin, self.out = 0.02, "works"
        self.feed_v: float | None = None
        self.rpm = float(rng.normal(210, 28))
        self.beat = float(abs(rng.normal(0.008, 0.005)))
        self.stood_at_tooth = bool(rng.random() < 0.5)

    def _possible(self):
        for name, (_, _, where, _) in FAULTS.items():
            words = where.split()
            if self.kind not in words or ("timed" in words and not self.timed):
                continue
            if "vane" in words and not self.family.startswith("cam"):
                continue
            if ("own" in words and not self.own_feed) or (words[-1] == "cam" and self.family.startswith("cam")):
                continue
            if name == "fuse" and self.own_feed:
                continue
            yield name

    def _shares(self) -> np.ndarray:
        share = np.array(
            [
                FAULTS[item][1] * (0.25 if FAULTS[item][0] == "timing" and self.family == "crank hall" else 1.0)
                for item in self._possible()
            ]
        )
        return share / share.sum()

    def _tell(self, rng) -> None:
        """What it came in with, and what the job states: sometimes feed and pull-up, sometimes nothing."""
        kind = str(rng.choice(CODES[self.cause]))
        if kind == "feed" and not self.own_feed:
            kind = "circuit"
        complaint = str(rng.choice(COMPLAINTS)) if self.timed else str(rng.choice(["no_speed_display", "lamp_only"]))
        if self.cause in ("timing", "interference", "reluctor") and complaint == "no_start":
            complaint = "runs_rough"
        self.runs = complaint != "no_start"
        self.told: list[Evidence] = [Complained("", complaint), Code("", "P0000", kind)]
        stated = dict(STATED[self.family])
        if self.kind == "hall" and rng.random() < 0.6:
            stated["supply"] = 5.0 if self.own_feed else (24.0 if self.battery > 18 else 12.0)
        if self.kind == "hall" and rng.random() < 0.5:
            stated["pull_up"] = (24.0 if self.battery > 18 else 12.0) if self.high_pull else 5.0
        if self.kind == "coil" and rng.random() < 0.8:
            stated["ohms"] = (
                self.r_coil * float(rng.uniform(0.78, 0.93)),
                self.r_coil * float(rng.uniform(1.07, 1.22)),
            )
        self.spec = CircuitSpec(**stated)

    def _break(self, rng) -> None:
        bad = self.how_bad
        grows = lambda low, high: float(low * (high / low) ** bad)  # noqa: E731
        often = self.comes = float(rng.choice([0.06, 0.35, 0.75, 1.0]))
        self.comes = often
        match self.fault:
            case "no output":
                self.out, self.takes = "high", 0.0 if rng.random() < 0.4 else self.takes
            case "stays low":
                self.out = "low"
            case "poor low":
                self.saturates = grows(0.9, 3.6) if not self.high_pull else grows(1.6, 8.0)
            case "leaky":
                self.leaks_inside = self.r_pull * grows(3.0, 0.25)
            case "coil gone":
                self.r_coil = 5e7 if rng.random() < 0.65 else self.r_coil * grows(1.6, 90.0)
            case "coil short":
                self.r_coil *= 1 - 0.15 - 0.75 * bad
            case "pin spread":
                self.pin = 1e8 if rng.random() < 0.5 else grows(900.0, 3e5)
            case "signal cut":
                self.r_signal = 1e8
            case "signal corroded":
                self.r_signal = grows(700.0, 2e5)
            case "signal chafed":
                self.leak = grows(2500.0, 0.8) if self.kind != "current" else grows(150.0, 0.8)
            case "signal on feed":
                self.to_feed = grows(900.0, 2.0)
            case "fuse" | "feed cut":
                self.r_feed = 1e8
            case "feed corroded":
                self.r_feed = grows(90.0, 4000.0)
            case "five volts held down":
                self.feed_v = grows(3.9, 0.2)
            case "return cut":
                self.r_return = 1e8
            case "return corroded":
                self.r_return = grows(9.0, 700.0) if self.kind == "hall" else grows(400.0, 3e5)
            case "earth strap":
                self.lift_crank = grows(0.5, 2.5)
            case "no pull-up":
                self.r_pull = 1e9 if rng.random() < 0.6 else self.r_pull * grows(12.0, 400.0)
            case "input short":
                self.short_in = grows(900.0, 15.0)
            case "weak starter":
                self.rpm *= 0.65 - 0.3 * bad
                self.dips_to *= 0.86
            case "lost compression":
                self.beat += 0.06 + 0.1 * bad

    @property
    def hides(self) -> bool:
        """Whether it has a fault that hardly ever shows."""
        return self.fault in ("quits hot", "harness moves", "relay", "return moves") and self.comes < 0.1

    @property
    def far(self) -> bool:
        """Whether the sensor stands too far from the wheel to be switched by it."""
        return self.fault == "far away" and self.how_bad > 0.35

    # what it answers ------------------------------------------------------------------------

    def _line(self, state: str, conducts: bool, end: str = "plug") -> tuple[float, float, float]:
        """Feed, return and signal at the plug (signal also at the module), by hand."""
        battery = {
            "cranking": self.dips_to,
            "running": self.charging,
            "wiggle": self.charging,
            "rolling": self.charging,
        }.get(state, self.battery)
        lift = self.lift_crank if state == "cranking" else self.lift_key
        unplugged = state == "key_on_unplugged"
        source = (self.ref if self.own_feed else battery) if self.feed_v is None else self.feed_v
        takes = 0.0 if unplugged or self.takes == 0.0 else self.takes
        if self.kind == "current":
            takes = 0.0 if unplugged or self.out == "high" else (self.high_ma if conducts else self.low_ma)
            load = 1 / (1 / self.r_shunt + 1 / self.leak)
            series = self.r_feed + self.r_signal + self.pin + load
            room = max(source - 4.5, 0.0)
            amps = min(takes, room / series)
            feed = source - amps * self.r_feed if self.r_feed < 1e7 else 0.0
            at_module = (
                amps
                * self.r_shunt
                * (self.leak / (self.leak + self.r_signal + self.r_shunt) if np.isfinite(self.leak) else 1.0)
            )
            return feed, 0.0, at_module + (amps * self.r_signal if self.r_signal < 1e7 else source * 0.9) + lift
        amps = (
            min(takes, max(source - self.works_from * 0.6, 0.0) / (self.r_feed + self.r_return + 1.0)) if takes else 0.0
        )
        feed = source - amps * self.r_feed if self.r_feed < 1e7 else 0.0
        ground = lift + amps * self.r_return if self.r_return < 1e7 else (lift if unplugged else max(source - 0.8, 0.0))
        if self.kind == "coil":
            return feed, *self._coil_rest(unplugged, lift)
        alive = (feed - ground) >= self.works_from and takes > 0
        pull = battery if self.high_pull else self.ref
        # Two nodes: the module's pin and the plug's, joined by the signal wire.
        g_wire = 1 / self.r_signal
        g_m, i_m = 1 / self.r_pull + 1 / self.r_input + 1 / self.short_in, pull / self.r_pull + lift / self.r_input
        g_s, i_s = 1e-7 + 1 / self.leak + 1 / self.to_feed, feed / self.to_feed
        on = (alive and conducts and self.out == "works") or self.out == "low"
        if not unplugged and on:
            g_s, i_s = g_s + 1 / (25.0 + self.pin), i_s + (ground + self.saturates) / (25.0 + self.pin)
        elif not unplugged:
            g_s, i_s = g_s + 1 / self.leaks_inside, i_s + ground / self.leaks_inside
        det = (g_m + g_wire) * (g_s + g_wire) - g_wire**2
        module = (i_m * (g_s + g_wire) + i_s * g_wire) / det
        plug = (i_s * (g_m + g_wire) + i_m * g_wire) / det
        self.module_v = module
        return feed, ground, plug

    def _coil_rest(self, unplugged: bool, lift: float) -> tuple[float, float]:
        """Return and signal at a coil's plug, at rest: Kirchhoff's currents at the module's pin, the plug's two pins and, where
        both legs are held up, the module's return pin; each looked at by a meter of ten megohm."""
        meter, coil = 1e-7, 0.0 if unplugged else 1 / (self.r_coil + self.pin)
        wire, back = 1 / self.r_signal, 1 / self.r_return
        held = 1 / self.r_bias if self.bias else 0.0
        loads = 1 / self.r_coil_load + 1 / self.short_in
        # in this order: module's signal pin, plug's signal pin, plug's return pin, module's return pin
        joined = np.zeros((4, 4))
        for a, b, siemens in ((0, 1, wire), (1, 2, coil), (2, 3, back)):
            joined[a, b] = joined[b, a] = -siemens
        earthed = np.array([loads, 1 / self.leak + meter, meter, 1 / self.r_coil_load if self.both_legs else 1e3])
        raised = np.array([held, 0.0, 0.0, held if self.both_legs else 0.0])
        np.fill_diagonal(joined, earthed + raised - joined.sum(axis=1))
        volts = np.linalg.solve(joined, raised * self.bias)
        return float(volts[2]) + lift, float(volts[1]) + lift

    def measure(self, point: str, state: str, ohms: bool) -> MeterReading | None:
        """A reading, now and then at another pin or in another state."""
        rng = self.rng
        if ohms:
            value = {
                "sensor": self.r_coil,
                "signal_wire": self.r_signal,
                "ground_wire": self.r_return,
                "supply_wire": self.r_feed,
            }[point]
            value = min(value * float(rng.normal(1, 0.006)) + float(abs(rng.normal(0.1, 0.08))), 4e7)
            return MeterReading("", point, state, value, True)
        if rng.random() < SLIPS:
            if rng.random() < 0.5:
                point_read, state_read = str(rng.choice(["supply", "signal", "ground"])), state
            else:
                point_read, state_read = point, str(rng.choice(["key_on", "key_on_unplugged", "cranking"]))
        else:
            point_read, state_read = point, state
        value = self._volts(point_read, state_read)
        return MeterReading("", point, state, value * float(rng.normal(1, 0.004)) + float(rng.normal(0, 0.003)))

    def _volts(self, point: str, state: str) -> float:
        index = {"supply": 0, "ground": 1, "signal": 2}[point]
        turning = state in ("cranking", "running", "rolling", "wiggle")
        if turning and not self.far:
            return 0.5 * (self._line(state, True)[index] + self._line(state, False)[index])
        conducts = state == "metal_near" or (state == "key_on" and self.stood_at_tooth and not self.far)
        return self._line(state, conducts)[index]

    def _when(self, state: str) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
        """Feed, return and signal where it conducts and where it does not, in a state."""
        return self._line(state, not self.far), self._line(state, False)

    def shows(self, state: str) -> tuple[set[str], bool]:
        """What there is to see in a recording, and whether its line is flat."""
        rng, found = self.rng, set()
        on, off = self._when(state)
        pull = (
            self.dips_to if self.high_pull and state == "cranking" else (self.battery if self.high_pull else self.ref)
        )
        still = {
            "extra_gap",
            "odd_tooth",
            "runout",
            "erratic",
            "dropout",
            "noise",
            "wrong_pattern",
            "timing_offset",
            "timing_scatter",
            "weak_amplitude",
            "reversed_polarity",
        }
        flat = False
        if self.kind == "hall":
            low, high = min(on[2], off[2]), max(on[2], off[2])
            flat = high - low < 0.06 * pull
            if flat:
                found.add("no_signal:" + ("high" if high > 0.78 * pull else "low" if high < 0.15 * pull else "middle"))
            else:
                if low > max(0.8, 0.12 * pull):
                    found.add("low_not_pulled_down")
                if high < 0.78 * pull:
                    found.add("high_not_reached")
        elif self.kind == "current":
            step = abs(on[2] - off[2]) / 100.0
            flat = step < 0.9e-3
            if flat:
                found.add("no_signal:low" if min(on[2], off[2]) < 0.4 else "no_signal:middle")
            elif step < 3.6e-3:
                found.add("weak_amplitude")
        else:
            load = 1 / (1 / self.r_coil_load + 1 / self.short_in + 1 / self.leak)
            share = load / (
                load + self.r_coil + self.pin + self.r_signal * (0 if np.isfinite(self.leak) else 1) + self.r_return
            )
            flat = share < 0.012 or (self.far and self.how_bad > 0.75)
            if flat:
                found.add("no_signal:" + ("middle" if self.bias > 0.5 else "low"))
            elif share < 0.3:
                found.add("weak_amplitude")
        feed, ground = on[0], max(on[1], off[1])
        if self.kind != "coil" and feed < 0.8 * (self.ref if self.own_feed else self.battery) * (
            0.72 if state == "cranking" and not self.own_feed else 1.0
        ):
            found.add("supply_loss")
        if self.kind == "hall" and ground > (0.35 if state == "cranking" else 0.2):
            found.add("ground_lift")
        comes = {"quits hot", "harness moves", "relay", "return moves"}
        showing = self.fault not in comes or rng.random() < (
            min(
                1.0,
                self.comes * (3.0 if state == "wiggle" and self.fault in ("harness moves", "return moves") else 1.0),
            )
        )
        if showing:
            boost = 4.0 if state == "wiggle" and self.fault == "harness moves" else 1.0
            shapes = {key: min(share * boost, 0.95) for key, share in FAULTS[self.fault][3].items()}
            if self.fault in ("quits hot", "relay", "return moves") or (
                self.fault == "harness moves" and state == "wiggle"
            ):
                shapes = dict.fromkeys(shapes, 0.9)
            if self.kind == "hall" or self.kind == "current":
                shapes.pop("weak_amplitude", None)
            found |= {key for key, share in shapes.items() if rng.random() < share and not (flat and key in still)}
        return found, flat

    def record(self, state: str) -> tuple[Evidence, ...]:
        """What a reader makes of a recording with its rails."""
        rng, (found, flat) = self.rng, self.shows(state)
        on, off = self._when(state)
        feed, ground = on[0], max(on[1], off[1])
        found = {item for item in sorted(found) if rng.random() >= MISSED}
        if rng.random() < SPOILED and not flat:
            found.add(str(rng.choice(["erratic", "odd_tooth", "dropout", "noise", "extra_gap"])))
        timing = {"timing_offset", "timing_scatter"}
        both = self.family == "cam hall"
        unseen = frozenset() if both else frozenset(timing)
        if self.kind != "hall":
            unseen |= {"ground_lift"}
        if self.kind == "coil":
            unseen |= {"supply_loss"}
        levels = []
        if self.kind != "coil":
            off_by = lambda: float(rng.normal(1, 0.015))  # noqa: E731
            low, high = sorted((on[2], off[2]))
            levels = [("low", low * off_by()), ("high", high * off_by()), ("supply", feed * off_by())]
            levels += [("ground", ground * off_by())] if self.kind == "hall" else []
        pieces: list[Evidence] = [Captured("", frozenset(found - set(unseen)), state, unseen, "sensor", tuple(levels))]
        if state == "cranking" and self.timed and not flat:
            pieces.append(
                Cranked("", self.rpm * float(rng.normal(1, 0.02)), self.beat + float(abs(rng.normal(0, 0.006))))
            )
        return tuple(pieces)

    def look(self, check) -> Inspected:
        """What somebody sees, now and then wrongly."""
        rng = self.rng
        names = [*check.outcome, ""]
        if rng.random() < MISJUDGED:
            return Inspected("", check.slug, str(rng.choice(names)))
        for name, row in THEMES.get(check.slug, {}).items():
            share = row.get(self.fault, 0.0)
            if self.fault in ("quits hot", "harness moves", "relay", "return moves"):
                share *= min(1.0, 0.25 + self.comes)
            if name in names and rng.random() < share:
                return Inspected("", check.slug, name)
        return Inspected("", check.slug, "")

    def scan(self, check) -> Scanned:
        """What the tester shows."""
        rng = self.rng
        if check.slug == "rpm_cranking":
            piece = self.record("cranking")[0]
            silent = any(item.startswith("no_signal") for item in piece.found)
            silent |= self.kind == "hall" and (self.r_signal > 1e5 or self.short_in < 200)
            return Scanned("", "rpm_cranking", 0.0 if silent or rng.random() < 0.03 else self.rpm)
        comes = self.comes if self.fault in ("quits hot", "harness moves", "relay", "return moves") else 1.0
        if self.fault == "nothing":
            return Scanned("", "codes_back", str(rng.choice(["never", "on a drive", "at once"], p=[0.7, 0.2, 0.1])))
        if rng.random() > comes:
            return Scanned("", "codes_back", "never")
        return Scanned("", "codes_back", str(rng.choice(["at once", "on a drive"], p=[0.6, 0.4])))

    def answer(self, check) -> tuple[Evidence, ...]:
        """What the machine answers to a check."""
        kind = str(check.kind)
        if kind == "meter":
            return (
                self.measure(
                    str(check.point), str(check.state), str(check.point).endswith("_wire") or check.point == "sensor"
                ),
            )
        if kind == "capture":
            return self.record(str(check.state))
        return (self.scan(check) if kind == "scan" else self.look(check),)
