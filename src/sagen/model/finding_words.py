"""What findings say: one sentence a kind, and what it would take to be sure, made of their typed fields.

A sentence needs `fields` and `facts` of its finding; a finding that was read elsewhere carries neither and is told by
its kind alone.
"""

from __future__ import annotations

import math
from collections.abc import Callable

from sagen.model.vocabulary import FindingKind


def sentence(finding) -> str:
    """What was found."""
    return _said(_SENTENCES, finding)


def to_be_sure(finding) -> str:
    """What would settle it."""
    return _said(_SURE, finding)


def _said(table: dict, finding) -> str:
    made = table.get(finding.kind, "")
    if isinstance(made, str):
        return made
    try:
        return made({**finding.fields, **finding.facts})
    except KeyError:
        return ""  # a finding without what its sentence is made of


def _percent(share: float) -> str:
    return f"{100 * share:.0f} %"


def _rate(hertz: float) -> str:
    return f"{hertz / 1e6:g} MS/s" if hertz >= 1e6 else f"{hertz / 1e3:g} kS/s"


# the capture itself ------------------------------------------------------------------------


def _undersampled(f: dict) -> str:
    if "samples_a_cycle" in f:
        seen = (
            f"Only {f['samples_a_cycle']:.1f} samples a cycle of the ring"
            if f["samples_a_cycle"]
            else "Too few samples"
        )
        return f"{seen} at {_rate(f['sfreq'])}: it may be another frequency folded down, and the crests are cut."
    return (
        f"Only {f['samples_a_tooth']:.1f} samples from tooth to tooth at top speed: teeth cannot be told apart for "
        f"certain, and what looks like a fault may be the sampling. {f['good']:g} a tooth are good."
    )


def _clipped(f: dict) -> str:
    if "cut" in f:
        return (
            f"{f['cut']} of {_many(f['strikes'], 'strike')} {'runs' if f['cut'] == 1 else 'run'} into the recorder's range at "
            f"{f['level']:.2f} {f['unit']}: left out, since how tall {'it is' if f['cut'] == 1 else 'they are'} is unknown."
        )
    return (
        f"The recorder's range ends at {f['level']:.2f} {f['unit']}: {_percent(f['share_cut'])} of the samples lie "
        "exactly there, so heights and levels beyond it are unknown."
    )


def _clipped_sure(f: dict) -> str:
    scale = float(f"{f['scale']:.1g}")
    return f"Record again with a height scale of at least ±{scale:g} {f['unit']}, or with a probe of a higher factor."


def _too_short(f: dict) -> str:
    if f["turns"] is None:
        return f"{1000 * f['seconds']:.0f} ms of a line without pulses prove nothing."
    return f"Only {f['turns']:.1f} turns of the wheel are in it: whether something repeats every turn cannot be said."


# levels ------------------------------------------------------------------------------------


def _many(count: int, name: str, names: str = "") -> str:
    return f"{count} {name}" if count == 1 else f"{count} {names or f'{name}s'}"


def _plain(value: float, digits: int = 2) -> str:
    """A figure without a sign on what rounds to nothing."""
    return f"{round(value, digits) + 0.0:.{digits}f}"


def _no_signal(f: dict) -> str:
    if f.get("strikes") == 0:
        return "No strike is to be seen on any sensor: nothing stands above the noise for as long as a ring lasts."
    if "strikes" in f:
        return (
            f"Does not answer: {_many(f['strikes'], 'strike')} that another sensor heard, at most {f['level_v']:.3g} "
            f"{f['unit']} here{_connected(f)}."
        )
    return (
        f"Flat at {_plain(f['level_v'])} {f['unit']} for the whole {f['seconds']:.3g} s while the shaft should turn: "
        f"{f['where']}."
    )


def _no_signal_sure(f: dict) -> str:
    if "strikes" not in f:
        return "Make sure that the engine turned during the recording and that the probe sat on the signal wire."
    if f["strikes"]:
        return (
            "Swap the two leads at the recorder and tap again: what stays with the sensor is the sensor or its wires."
        )
    return (
        "Tap light and short on solid metal between the sensors, six times or more, and check the leads and the scale."
    )


def _course(f: dict) -> str:
    """For how long a level was wrong, from when on, and how it moved."""
    times = "" if f["times"] == 1 else f", in {f['times']} stretches"
    told = f"for {f['lasts_s']:.2g} s of {f['of_s']:.3g} s{times}, from {f['from_s']:.2f} s on"
    if f["rate"] is not None:
        return f"{told}; it moves by {abs(f['rate']):.2g} V a second, as far as {f['most']:.2f} V"
    return told


def _low_not_pulled_down(f: dict) -> str:
    if "known_good" in f:
        return (
            f"Comes down only to {f['level_v']:.2f} V; the known-good capture comes down to {_plain(f['known_good'])} V: something "
            "in return or output holds it up."
        )
    if "lasts_s" in f:
        return (
            f"Switches, but comes down only to {f['level_v']:.2f} V {_course(f)}. Else it comes down to "
            f"{max(f['else'], 0.0):.2f} V: something comes and goes, or warms."
        )
    return (
        f"Switches, but comes down only to {f['level_v']:.2f} V; a sound sensor pulls to about 0.5 V or less. "
        f"{f['pulses']} pulses look alike in this."
    )


def _duration(seconds: float) -> str:
    return f"{seconds * 1e3:.3g} ms" if seconds >= 1e-3 else f"{seconds * 1e6:.3g} µs"


def _high_not_reached(f: dict) -> str:
    if "rise_s" in f:
        rise = f", 10 to 90 % in {_duration(f['rise_s'])}" if f["rise_s"] else ""
        return (
            f"Rises too slowly{rise}: a pulse lasts {_duration(f['lasts_s'])} and reaches {f['level_v']:.2f} V, the longest "
            f"{f['top']:.2f} V; {f['expected']:g} V is the pull-up. Weak pull-up, or a loaded line."
        )
    if "rises_us" in f:
        good, here = f["rises_us"]
        return (
            f"Rises in {_duration(here * 1e-6)} (10 to 90 %), the known-good capture in {_duration(good * 1e-6)}: a weak pull-up, a "
            "loaded line, or a poor contact in it."
        )
    if "known_good" in f:
        return f"Rises only to {f['level_v']:.2f} V; the known-good capture rises to {f['known_good']:.2f} V."
    if "else" in f:
        return f"Switches, but rises only to {f['level_v']:.2f} V {_course(f)}. Else it rises to {f['else']:.2f} V."
    if not f.get("stated", True):
        return f"Switches, but rises only to {f['level_v']:.2f} V, less than any usual pull-up: something holds the line down."
    return (
        f"Switches, but rises only to {f['level_v']:.2f} V, {_percent(f['level_v'] / f['expected'])} of the "
        f"{f['expected']:g} V pull-up: something holds the line down."
    )


def _weak_amplitude(f: dict) -> str:
    if "share" in f:
        return (
            f"The signal fades while the shaft turns on: from {f['from_s']:.2f} s on it gives as little as "
            f"{_percent(f['share'])} of what it gave at the same speed before, {f['level_v']:.3g} {f['unit']} from peak to peak."
        )
    return f"The signal swings by only {f['level_v']:.3g} {f['unit']} from peak to peak; {_usual_height(f)}."


def _usual_height(f: dict) -> str:
    if "milliamps" in f:
        low, high = f["milliamps"]
        return f"its levels are {low:.1f} and {high:.1f} mA where about 7 and 14 mA are usual"
    if f.get("known_good") is not None:
        return f"the known-good capture gives {f['known_good']:.2f} V for this speed"
    return f"at {f['teeth_a_second']:.0f} teeth a second at least {f['least']:.2g} V is usual"


_CONNECTED = {"unplugged": ", unplugged", "loaded": ", under a load", "plugged": ", plugged in"}


def _connected(f: dict) -> str:
    return _CONNECTED.get(f.get("connection", ""), "")


def _weak_strike(f: dict) -> str:
    beside = "the other sensor" if f["sensors"] == 2 else "the others"
    against = " as in the known-good capture" if f["reference"] else ""
    said = (
        f"Answers {_percent(f['ratio'])} as tall as {beside}{against}{_connected(f)} ({_percent(f['low'])} to {_percent(f['high'])}, "
        f"{_many(f['strikes'], 'strike')})."
    )
    if f.get("places", 1) > 1:
        return said + f" Struck at {f['places']} places, so that it is not where the tap fell."
    if f["reference"]:
        return said
    return said + " One place alone: a tap nearer to the other one makes some of that."


def _weak_strike_sure(f: dict) -> str:
    more = {
        "unplugged": "then with 20 to 50 kilohm across each",
        "loaded": "then plugged in",
        "plugged": "then unplugged, to part the sensor from what loads it",
    }
    return f"Tap as often at a place nearer to this sensor, {more.get(f['connection'], 'unplugged and under 20 to 50 kilohm')}."


def _loaded_down(f: dict) -> str:
    return (
        f"Plugged in it answers {_percent(f['ratio'])} as tall, against the other sensor, as it does unplugged "
        f"({_percent(f['low'])} to {_percent(f['high'])}): the sensor gives, the circuit holds it down."
    )


_ODD_BY = {
    "reference": "it is the one that has moved against the known-good capture",
    "others": "the others ring alike",
    "band": "the other one lies in the band in which this bore knocks",
    "lower": "which of two is wrong is not certain: damage, a crack or a loose bolt lowers a ring",
}


def _ring_mismatch(f: dict) -> str:
    if "other" not in f:  # judged over the whole set
        doubt = (
            "" if f["sure"] else " Which of two is wrong is not certain: damage, a crack or a loose bolt lowers a ring."
        )
        return (
            f"Rings at {f['frequency_hz']:,.0f} Hz where the other rings at {f['other_hz']:,.0f} Hz ({_many(f['strikes'], 'strike')}): "
            f"however tall, they do not match.{doubt}"
        )
    low, high = sorted((abs(f["low"]), abs(f["high"])))
    said = (
        f"Rings at {f['frequency_hz']:,.0f} Hz, {f['other']} at {f['other_hz']:,.0f} Hz: {abs(f['difference']):,.0f} Hz apart "
        f"({low:,.0f} to {high:,.0f}). However tall, they do not match; {_ODD_BY[f['odd_by']]}."
    )
    if f["band"]:
        first, _, last = f["band"]
        said += f" First mode of this bore, estimated: {first:,.0f} to {last:,.0f} Hz."
    return said


def probe_note(column: str, doubt) -> str:
    """What is wrong with a channel's probe, and what to set."""
    said = {
        "ac_coupled": "it swings about nought: AC coupling is on. Set DC and record again; its timing is read, its levels are not judged",
        "crossed": "it lies below ground: the probe's two leads are crossed. Its timing is read, its levels are not judged",
        "factor": f"its scale cannot be right: a probe factor of {doubt.factor or 1:g} would fit. Its levels are not judged",
    }  # fmt: skip
    return f"{column}: {said[doubt.kind]}"


def rest_note(column: str, last_s: float) -> str:
    """What is said of teeth that end before the recording does, where nothing tells that the shaft still turned."""
    return f"{column}: no tooth after {last_s:.2f} s: the shaft came to rest, as far as its last teeth tell"


def tap_notes(tapped, findings) -> tuple[str, ...]:
    """What has to be said of a capture of taps beside its findings."""
    strikes, notes = tapped.strikes, []
    bounced = sum(1 for bounce in strikes.bounces if bounce)
    if bounced:
        notes.append(f"{_many(bounced, 'strike')} bounced or came double: only the first touch counts")
    if len(strikes.columns) == 1:
        notes.append("one sensor alone: its height depends on how hard it was struck; record its twin beside it")
    grave = [finding for finding in findings if finding.kind in (FindingKind.WEAK_STRIKE, FindingKind.NO_SIGNAL)]
    open_ = [str(tapped.connection(index)) == "unplugged" for index in range(len(strikes.columns))]
    if len(strikes) and not grave and all(open_):
        notes.append(
            "open alone passes no sensor: without a load it shows its full voltage; tap again under 20 to 50 kilohm"
        )
    return tuple(notes)


def _noise(f: dict) -> str:
    if "usual" in f:
        return (
            f"Noise of {f['floor']:.3g} {f['unit']} and {f['hum']:.3g} {f['unit']} of hum stand against rings of "
            f"{f['usual']:.3g} {f['unit']}; the other channel is quieter."
        )
    what = []
    if f["false_pulses"]:
        what.append(f"{f['false_pulses']} pulses too narrow to be teeth lie between {f['teeth']} teeth")
    if f["near_misses"]:
        what.append(f"{f['near_misses']} disturbances come near to making false edges")
    if f.get("hum_v"):
        what.append(f"hum of the mains ({f['hum_hz']:.0f} Hz, ±{f['hum_v']:.2f} {f['unit']}) lies over the teeth")
    if f["loud"]:
        what.append(f"noise of ±{f['level_v']:.2f} {f['unit']} rides on the signal")
    said = "; ".join(what)
    return said[:1].upper() + said[1:] + "."


def _rail(falls: bool) -> Callable[[dict], str]:
    def said(f: dict) -> str:
        when = "for the whole recording" if f["whole"] else f"from {f['start_s']:.4f} s to {f['end_s']:.4f} s"
        long = f"({1000 * (f['end_s'] - f['start_s']):.0f} ms)"
        if f.get("stretches", 1) > 1:
            when, long = f"{f['stretches']} times between {f['start_s']:.3f} s and {f['end_s']:.3f} s,", "at the worst"
        if falls:
            return (
                f"The feed falls to {f['level_v']:.2f} V {when} {long}; {f['nominal']:g} V is nominal, and below "
                f"{f['limit']:.1f} V the sensor cannot be relied on."
            )
        return (
            f"The return rises to {f['level_v']:.2f} V above battery negative {when} {long}; a good one stays below "
            "0.1 V."
        )

    return said


# the wheel ---------------------------------------------------------------------------------


def _extra_gap(f: dict) -> str:
    several = f["last_tooth"] != f["tooth"]
    which = f"teeth {f['tooth']} to {f['last_tooth']} are" if several else f"tooth {f['tooth']} is"
    where = (
        "on a wheel that should have no gap" if f["even_wheel"] else f"{f['angle_deg']:.0f}° after the reference gap"
    )
    return (
        f"One gap too many: {which} not seen ({'teeth or magnets' if several else 'tooth or magnet'}) in {f['seen']} of "
        f"{f['turns']} turns, {where}. The space there is {f['pitches']:.2f} pitches long.{_what_else_a_gap_may_be(f)}"
    )


def _what_else_a_gap_may_be(f: dict) -> str:
    """What one capture cannot tell about teeth missing beside a reference gap or like one."""
    if f["even_wheel"]:
        return " Teeth are counted from the one behind it."
    if f["beside_reference"]:
        return " It lies next to the reference gap, so it may be the tooth on the gap's other side."
    if f.get("half_wheel"):
        return f" It lies opposite the reference gap: a {f['half_wheel']} wheel would show the same."
    if f.get("other_tooth"):
        return (
            " Both gaps are equally long: this one could as well be the reference gap, and what is missing then "
            f"starts at tooth {f['other_tooth']}."
        )
    return ""


def _extra_gap_sure(f: dict) -> str:
    if not f["repeats"]:
        return "Record at least three turns: one gap seen once may be an interruption."
    return (
        "Turn the engine by hand and look at that tooth through the sensor's hole; on a magnet ring use a viewing card."
    )


def odd_words(measure: str, size: float, than: str = "than the others") -> str:
    """How a tooth differs, for a measure of `signal.measures.LEAST`."""
    percent = f"{abs(100 * size):.0f} %"
    if measure.startswith("phase_error"):
        return f"comes {percent} of a pitch {'late' if size > 0 else 'early'}"
    if measure == "width":
        return f"holds the signal low {percent} of a pitch {'longer' if size > 0 else 'shorter'} {than}"
    return f"is {percent} {'taller' if size > 0 else 'lower'} {than} for its speed"


def in_turns(seen: int, turns: int) -> str:
    """In how many turns something was seen; "each" only where it was seen in each."""
    if turns <= 1:
        return "in the one turn that is whole"
    if seen >= turns:
        return "in both turns" if turns == 2 else f"in each of {turns} turns"
    return f"in {seen} of {turns} turns"


def _after_gap(f: dict) -> str:
    """Where on the wheel, counted from its gap; "" of a wheel without one, where teeth are counted from the first seen."""
    return "" if f.get("even_wheel") else f", {f['angle_deg']:.0f}° after the reference gap,"


def beyond_chance(errors: float) -> str:
    """How seldom chance alone makes as much, for so many standard errors (normal law, both tails)."""
    chance = math.erfc(errors / math.sqrt(2.0))
    if chance < 1e-4:
        return "far beyond chance: less than 1 in 10,000"
    return f"beyond chance: about 1 in {float(f'{1 / chance:.1g}'):,.0f}"


def _odd_tooth(f: dict) -> str:
    seen = in_turns(f.get("seen", f["turns"]), f["turns"])
    after = _after_gap(f)
    if f["measure"] == "cam_edge":
        others = len(f["edges"]) - 1
        more = (
            f" {_many(others, 'more edge')} of {f['of']} {'strays' if others == 1 else 'stray'} too." if others else ""
        )
        return (
            f"Edge {f['tooth']} of the cam's cycle, {f['angle_deg']:.0f}° in the known-good capture, comes {abs(f['size']):.1f}° of "
            f"the crank {'late' if f['size'] > 0 else 'early'} while the others agree: a vane or tooth of the cam's wheel is bent "
            f"or worn.{more}"
        )
    if f["measure"] == "between":
        return (
            f"A pulse too many between teeth {f['tooth']} and {f.get('next', f['tooth'] + 1)}{after or ','} {seen}: something "
            "stands between two teeth there (swarf, a dent)."
        )
    if f["measure"] == "bridged":
        return (
            f"No space between teeth {f.get('before', f['tooth'] - 1)} and {f['tooth']}{after or ','} {seen}: the signal stays "
            "from one to the other, something bridges them (swarf)."
        )
    if f.get("last_tooth", f["tooth"]) != f["tooth"]:
        return (
            f"Teeth {f['tooth']} to {f['last_tooth']}{after} are {abs(100 * f['size']):.0f} % "
            f"{'taller' if f['size'] > 0 else 'lower'} than the others for their speed {seen}: something is on the wheel there "
            "(rust, swarf), or it is bent."
        )
    if "slow_rpm" in f:
        return (
            f"Tooth {f['tooth']}{after} {odd_words(f['measure'], f['size'])} at {f['fast_rpm']:.0f} rpm "
            f"({beyond_chance(f['surprise'])}), {_percent(f['slow_size'])} at {f['slow_rpm']:.0f} rpm: it leaves its place as the "
            "wheel gains speed, as the ring does that is split or loose there."
        )
    return f"Tooth {f['tooth']}{after} {odd_words(f['measure'], f['size'])} {seen} ({beyond_chance(f['surprise'])})."


def _runout(f: dict) -> str:
    return (
        f"The {f['what']} swings by ±{_percent(f['depth'])} of its mean once a turn, {in_turns(f['turns'], f['turns'])}: wheel "
        "or shaft does not run true."
    )


def _how_irregular(f: dict) -> str:
    """How many of them were missed, and how many came double."""
    told = [f"{count} {what}" for what in ("missed", "doubled") if (count := f.get(what, 0))]
    return f" ({', '.join(told)})" if told else ""


def _erratic(f: dict) -> str:
    return (
        f"{_percent(f['share_seen'])} of {f['teeth']} teeth come irregularly{_how_irregular(f)}, at another place each turn: "
        "not the wheel, which would repeat."
    )


def _dropout(f: dict) -> str:
    long = f"{1000 * (f['end_s'] - f['start_s']):.0f} ms"
    if "edges" in f:
        return (
            f"The cam's signal stops at {f['start_s']:.4f} s for {long} ({f['edges']} edges of its cycle do not come) "
            "while the crank turns on."
        )
    ending = "does not come back"
    if f["back"]:
        ending = (
            "comes back slowly, as a shaft that starts"
            if f.get("from_rest")
            else "comes back at the speed of a turning shaft"
        )
    return (
        f"The signal stops at {f['start_s']:.4f} s for {long} (about {_many(round(f['teeth']), 'tooth', 'teeth')} at the usual speed); the last "
        f"teeth before do not slow down as a shaft does that comes to rest, and it {ending}."
        f"{''.join(_rail_did(item) for item in f['rails'])}"
    )


def _dropout_sure(f: dict) -> str:
    watched = set(f.get("watched", ()))
    if {"supply", "ground"} <= watched:
        # Both rails are in the picture: nothing is gained by recording them again.
        held = (
            "Feed and return are in the recording and held"
            if not f.get("rails")
            else "Feed and return are in the recording"
        )
        return f"{held}: wiggle plug and harness and warm the sensor while the signal is recorded for a long time."
    missing = [name for role, name in (("supply", "feed"), ("ground", "return")) if role not in watched]
    return f"Record the signal and {' and '.join(missing)} together for a long time and wiggle plug and harness."


def _rail_did(did: dict) -> str:
    what = "the supply fell" if did["kind"] == FindingKind.SUPPLY_LOSS else "the return rose"
    ahead = did["ahead_s"]
    order = "at the same tooth"
    if ahead is not None:
        order = f"{1000 * abs(ahead):.1f} ms {'before' if ahead > 0 else 'after'} that"
    return f" On {did['channel']} {what} {order}."


def _wrong_pattern(f: dict) -> str:
    if "shape" in f:
        words = CAM_SHAPES[f["shape"]]
        return f"{words[:1].upper()}{words[1:]}."
    seen = (
        f"an even wheel: no gap in {f['teeth']} teeth"
        if f["slots"] is None
        else f"{f['wheel']}, the same in {f['turns']} turns"
    )
    return f"The wheel is sound but not the one expected: {f['declared']} is stated, the signal shows {seen}."


def _reversed_polarity(f: dict) -> str:
    return (
        f"The sharp crossing at each tooth is {f['seen']}, where {f['declared']} is stated, and the gap shows the "
        "wrong way round: the two wires are crossed."
    )


# cam against crank --------------------------------------------------------------------------


def _timing_scatter(f: dict) -> str:
    return (
        f"The cam's edges wander against the crank by {f['wide_deg']:.1f}° of the crank (standard deviation "
        f"{f['scatter_deg']:.1f}°) over {f['cycles']:.0f} cycles, not to one side: chain or belt has play."
    )


#: crank sprockets have from so many to so many teeth (common practice, no published source), and a shift is told in teeth
#: only within a tenth of a whole one
SPROCKETS, WHOLE_TOOTH = (15, 48), 0.1


def _belt_teeth(offset: float, teeth: float | None, sprocket: int | None) -> str:
    """A shift in teeth of belt or chain, where it is a whole number of them."""
    if teeth is not None:
        if round(teeth) >= 1 and abs(teeth - round(teeth)) <= WHOLE_TOOTH:
            return f" That is {_many(round(teeth), 'tooth', 'teeth')} of the {sprocket}-tooth crank sprocket."
        return f" That is no whole number of teeth of the {sprocket}-tooth crank sprocket."
    count = 360.0 / max(abs(offset), 1e-9)
    if SPROCKETS[0] <= count <= SPROCKETS[1] and abs(count - round(count)) <= WHOLE_TOOTH:
        return f" One tooth of a {round(count)}-tooth crank sprocket would make as much."
    return ""


def _timing_offset(f: dict) -> str:
    offset = f["offset_deg"]
    belt = _belt_teeth(offset, f["belt_teeth"], f["sprocket"])
    if f.get("slipped_s") is not None:
        return (
            f"From {f['slipped_s']:.2f} s on the cam's edges come {abs(offset):.1f}° of the crank "
            f"{'later' if offset > 0 else 'earlier'} than before: a belt or chain jumped, or a wheel slipped on its "
            f"shaft, while this was recorded.{belt}"
        )
    beside = {None: "", True: " The other cam is where it should be.", False: " The other cam has moved as well."}
    return (
        f"All {f['edges']} cam edges come {abs(offset):.1f}° of the crank {'late' if offset > 0 else 'early'} against "
        f"the known-good capture, steadily over {f['cycles']:.0f} cycles.{belt}{beside[f['others_on_time']]}"
    )


_SENTENCES: dict[FindingKind, Callable[[dict], str]] = {
    FindingKind.UNDERSAMPLED: _undersampled,
    FindingKind.CLIPPED: _clipped,
    FindingKind.TOO_SHORT: _too_short,
    FindingKind.NO_SIGNAL: _no_signal,
    FindingKind.LOW_NOT_PULLED_DOWN: _low_not_pulled_down,
    FindingKind.HIGH_NOT_REACHED: _high_not_reached,
    FindingKind.WEAK_AMPLITUDE: _weak_amplitude,
    FindingKind.NOISE: _noise,
    FindingKind.SUPPLY_LOSS: _rail(True),
    FindingKind.GROUND_LIFT: _rail(False),
    FindingKind.EXTRA_GAP: _extra_gap,
    FindingKind.ODD_TOOTH: _odd_tooth,
    FindingKind.RUNOUT: _runout,
    FindingKind.ERRATIC: _erratic,
    FindingKind.DROPOUT: _dropout,
    FindingKind.WRONG_PATTERN: _wrong_pattern,
    FindingKind.REVERSED_POLARITY: _reversed_polarity,
    FindingKind.TIMING_SCATTER: _timing_scatter,
    FindingKind.TIMING_OFFSET: _timing_offset,
    FindingKind.WEAK_STRIKE: _weak_strike,
    FindingKind.LOADED_DOWN: _loaded_down,
    FindingKind.RING_MISMATCH: _ring_mismatch,
}

_SURE: dict[FindingKind, str | Callable[[dict], str]] = {
    FindingKind.UNDERSAMPLED: lambda f: f"Record again with at least {_rate(f['rate_hz'])}.",
    FindingKind.CLIPPED: _clipped_sure,
    FindingKind.TOO_SHORT: lambda f: f"Record at least {f['wanted_s']:g} s: six turns or more.",
    FindingKind.NO_SIGNAL: _no_signal_sure,
    FindingKind.WEAK_STRIKE: _weak_strike_sure,
    FindingKind.LOADED_DOWN: (
        "Unplug both and tap as before; then ohms of its wires, to each other and to the shield, and the module's load."
    ),
    FindingKind.RING_MISMATCH: (
        "Check its tightening torque, its seat and its part number, tap again from another place, then swap left and right."
    ),
    FindingKind.LOW_NOT_PULLED_DOWN: (
        "Measure the sensor's return against battery negative while cranking: if it stays below 0.1 V, the sensor "
        "itself does not pull down."
    ),
    FindingKind.HIGH_NOT_REACHED: (
        "Unplug the sensor with the key on: if the harness side now shows the full pull-up, the sensor loads it; if "
        "not, the wire or the module does."
    ),
    FindingKind.WEAK_AMPLITUDE: (
        "Check the gap to the wheel, then the sensor's resistance against the maker's value at its temperature."
    ),
    FindingKind.NOISE: (
        "Move the harness away from ignition and alternator leads, check the shield's ground, and capture again."
    ),
    FindingKind.SUPPLY_LOSS: "Measure the feed at fuse, relay and plug under load, and see who else shares it.",
    FindingKind.GROUND_LIFT: (
        "Measure the drop along the return under load, from plug to battery negative, while wiggling the harness."
    ),
    FindingKind.EXTRA_GAP: _extra_gap_sure,
    FindingKind.ODD_TOOTH: (
        "Look at that tooth through the sensor's hole: chipped, bent, or something stuck to it."
    ),
    FindingKind.RUNOUT: "Set a dial gauge on the wheel and turn the engine by hand.",
    FindingKind.ERRATIC: (
        "Look at the sensor's seat: rust under the flange, a loose bolt, a struck tip; then capture again."
    ),
    FindingKind.DROPOUT: _dropout_sure,
    FindingKind.WRONG_PATTERN: (
        "Compare the part number of wheel, flywheel or bearing with the maker's list for this engine."
    ),
    FindingKind.REVERSED_POLARITY: (
        "Compare wire colours at the plug with the drawing, and make sure the probe's own leads are not swapped."
    ),
    FindingKind.TIMING_SCATTER: "Check the tensioner and the chain's length; compare with the other bank.",
    FindingKind.TIMING_OFFSET: (
        "Set the engine to its timing marks and look before anything else: cranking on may bend valves."
    ),
}  # fmt: skip


def comparison_words(item) -> str:
    """How a channel differs from the known-good capture."""
    low, high = (round(level.difference, 2) + 0.0 for level in (item.low, item.high))
    levels = f"low level {low:+.2f} V, high level {high:+.2f} V against the known-good capture."
    if item.cam is not None:
        if item.cam.shape:
            return f"{CAM_SHAPES[item.cam.shape]}; {levels}"
        late = "late" if item.cam.offset > 0 else "early"
        shift = f"{abs(item.cam.offset):.1f}° of the crank {late} (± {2 * item.cam.u:.1f}°)"
        moved = [f"edge {edge.edge} by {edge.difference - item.cam.offset:+.1f}°" for edge in item.cam.moved]
        beside = f", and besides {', '.join(moved[:6])}" if moved else ", every edge alike"
        return f"{shift}{beside}; {levels}"
    named = [f"{number} ({how})" if how else str(number) for number, how in item.named[:6]]
    more = f" and {len(item.teeth) - 6} more" if len(item.teeth) > 6 else ""
    where = f"at tooth {', '.join(named)}{more}" if item.teeth else "at no tooth"
    alike = "" if item.likeness is None else f"{100 * item.likeness:.1f} % alike over a turn, differing {where}; "
    return f"{alike}{levels}"


#: what a cam is whose edges are not those of the known-good one
CAM_SHAPES = {
    "mirrored": "the cam's pattern runs the other way round: a wheel fitted upside down, or another one",
    "inverted": "the cam's pattern is upside down: tooth for gap, as another sensor or crossed leads make it",
    "other": "the cam's edges are not those of the known-good capture: another cam wheel, or edges lost",
}
