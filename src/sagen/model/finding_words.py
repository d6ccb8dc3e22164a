"""What findings say: one sentence a kind, and what it would take to be sure, made of their typed fields.

A sentence needs `fields` and `facts` of its finding; a finding that was read elsewhere carries neither and is told by
its kind alone.
"""

from __future__ import annotations

import math
from collections.abc import Callable

from sagen.model.language import figure, joined_and, said_now, titled, tr, trn
from sagen.model.vocabulary import FindingKind

#: what a capture of taps without any load says of itself, and what a job with a loaded one beside it need not hear
OPEN_ALONE = tr(
    "open alone passes no sensor: without a load it shows its full voltage; tap again under 20 to 50 kilohm"
)


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
    return tr("{share:.0f} %", share=100 * share)


def _rate(hertz: float) -> str:
    return tr("{hertz:g} MS/s", hertz=hertz / 1e6) if hertz >= 1e6 else tr("{hertz:g} kS/s", hertz=hertz / 1e3)


# the capture itself ------------------------------------------------------------------------


def _undersampled(f: dict) -> str:
    if "samples_a_cycle" in f:
        seen = (
            tr("Only {samples_a_cycle:.1f} samples a cycle of the ring", samples_a_cycle=f["samples_a_cycle"])
            if f["samples_a_cycle"]
            else tr("Too few samples")
        )
        return tr(
            "{seen} at {sfreq}: it may be another frequency folded down, and the crests are cut.",
            seen=seen,
            sfreq=_rate(f["sfreq"]),
        )
    return tr(
        "Only {samples_a_tooth:.1f} samples from tooth to tooth at top speed: teeth cannot be told apart for "
        "certain, and what looks like a fault may be the sampling. {good:g} a tooth are good.",
        samples_a_tooth=f["samples_a_tooth"],
        good=f["good"],
    )


def _clipped(f: dict) -> str:
    if "cut" in f:
        return tr(
            "{cut} of {strikes} {cut_2} into the recorder's range at {level:.2f} {unit}: left out, since how "
            "tall {cut_3} is unknown.",
            cut=f["cut"],
            strikes=_strikes(f["strikes"]),
            cut_2=tr("runs") if f["cut"] == 1 else tr("run"),
            level=f["level"],
            unit=f["unit"],
            cut_3=tr("it is") if f["cut"] == 1 else tr("they are"),
        )
    return tr(
        "The recorder's range ends at {level:.2f} {unit}: {share_cut} of the samples lie exactly there, so "
        "heights and levels beyond it are unknown.",
        level=f["level"],
        unit=f["unit"],
        share_cut=_percent(f["share_cut"]),
    )


def _clipped_sure(f: dict) -> str:
    scale = float(f"{f['scale']:.1g}")
    return tr(
        "Record again with a height scale of at least ±{scale:g} {unit}, or with a probe of a higher factor.",
        scale=scale,
        unit=f["unit"],
    )


def _too_short(f: dict) -> str:
    if f["turns"] is None:
        return tr("{seconds:.0f} ms of a line without pulses prove nothing.", seconds=1000 * f["seconds"])
    return tr(
        "Only {turns:.1f} turns of the wheel are in it: whether something repeats every turn cannot be said.",
        turns=f["turns"],
    )


# levels ------------------------------------------------------------------------------------


def _strikes(count: int) -> str:
    return trn("{count} strike", "{count} strikes", count)


def _teeth(count: int) -> str:
    return trn("{count} tooth", "{count} teeth", count)


def _plain(value: float, digits: int = 2) -> str:
    """A figure without a sign on what rounds to nothing."""
    return figure(round(value, digits) + 0.0, f".{digits}f")


def _no_signal(f: dict) -> str:
    if f.get("strikes") == 0:
        return tr("No strike is to be seen on any sensor: nothing stands above the noise for as long as a ring lasts.")
    if "strikes" in f:
        return tr(
            "Does not answer: {strikes} that another sensor heard, at most {level_v:.3g} {unit} here{f}.",
            strikes=_strikes(f["strikes"]),
            level_v=f["level_v"],
            unit=f["unit"],
            f=_connected(f),
        )
    return tr(
        "Flat at {level_v} {unit} for the whole {seconds:.3g} s while the shaft should turn: {where}.",
        level_v=_plain(f["level_v"]),
        unit=f["unit"],
        seconds=f["seconds"],
        where=said_now(f["where"]),
    )


def _no_signal_sure(f: dict) -> str:
    if "strikes" not in f:
        return tr("Make sure that the engine turned during the recording and that the probe sat on the signal wire.")
    if f["strikes"]:
        return tr(
            "Swap the two leads at the recorder and tap again: what stays with the sensor is the sensor or its wires."
        )
    return tr(
        "Tap light and short on solid metal between the sensors, six times or more, and check the leads and the scale."
    )


def _course(f: dict) -> str:
    """For how long a level was wrong, from when on, and how it moved."""
    times = "" if f["times"] == 1 else tr(", in {times} stretches", times=f["times"])
    told = tr(
        "for {lasts_s:.2g} s of {of_s:.3g} s{times}, from {from_s:.2f} s on",
        lasts_s=f["lasts_s"],
        of_s=f["of_s"],
        times=times,
        from_s=f["from_s"],
    )
    if f["rate"] is not None:
        return tr(
            "{told}; it moves by {rate:.2g} V a second, as far as {most:.2f} V",
            told=told,
            rate=abs(f["rate"]),
            most=f["most"],
        )
    return told


def _low_not_pulled_down(f: dict) -> str:
    if "known_good" in f:
        return tr(
            "Comes down only to {level_v:.2f} V; the known-good capture comes down to {known_good} V: something "
            "in return or output holds it up.",
            level_v=f["level_v"],
            known_good=_plain(f["known_good"]),
        )
    if "lasts_s" in f:
        return tr(
            "Switches, but comes down only to {level_v:.2f} V {f}. Else it comes down to {else_:.2f} V: "
            "something comes and goes, or warms.",
            level_v=f["level_v"],
            f=_course(f),
            else_=max(f["else"], 0.0),
        )
    return tr(
        "Switches, but comes down only to {level_v:.2f} V; a sound sensor pulls to about 0.5 V or less. {pulses} "
        "pulses look alike in this.",
        level_v=f["level_v"],
        pulses=f["pulses"],
    )


def _duration(seconds: float) -> str:
    return (
        tr("{seconds:.3g} ms", seconds=seconds * 1e3)
        if seconds >= 1e-3
        else tr("{seconds:.3g} µs", seconds=seconds * 1e6)
    )


def _high_not_reached(f: dict) -> str:
    if "rise_s" in f:
        rise = tr(", 10 to 90 % in {rise_s}", rise_s=_duration(f["rise_s"])) if f["rise_s"] else ""
        return tr(
            "Rises too slowly{rise}: a pulse lasts {lasts_s} and reaches {level_v:.2f} V, the longest {top:.2f} "
            "V; {expected:g} V is the pull-up. Weak pull-up, or a loaded line.",
            rise=rise,
            lasts_s=_duration(f["lasts_s"]),
            level_v=f["level_v"],
            top=f["top"],
            expected=f["expected"],
        )
    if "rises_us" in f:
        good, here = f["rises_us"]
        return tr(
            "Rises in {here} (10 to 90 %), the known-good capture in {good}: a weak pull-up, a loaded line, or a "
            "poor contact in it.",
            here=_duration(here * 1e-6),
            good=_duration(good * 1e-6),
        )
    if "known_good" in f:
        return tr(
            "Rises only to {level_v:.2f} V; the known-good capture rises to {known_good:.2f} V.",
            level_v=f["level_v"],
            known_good=f["known_good"],
        )
    if "else" in f:
        return tr(
            "Switches, but rises only to {level_v:.2f} V {f}. Else it rises to {else_:.2f} V.",
            level_v=f["level_v"],
            f=_course(f),
            else_=f["else"],
        )
    if not f.get("stated", True):
        return tr(
            "Switches, but rises only to {level_v:.2f} V, less than any usual pull-up: something holds the line down.",
            level_v=f["level_v"],
        )
    return tr(
        "Switches, but rises only to {level_v:.2f} V, {level_v_2} of the {expected:g} V pull-up: something holds "
        "the line down.",
        level_v=f["level_v"],
        level_v_2=_percent(f["level_v"] / f["expected"]),
        expected=f["expected"],
    )


def _weak_amplitude(f: dict) -> str:
    if "share" in f:
        return tr(
            "The signal fades while the shaft turns on: from {from_s:.2f} s on it gives as little as {share} of "
            "what it gave at the same speed before, {level_v:.3g} {unit} from peak to peak.",
            from_s=f["from_s"],
            share=_percent(f["share"]),
            level_v=f["level_v"],
            unit=f["unit"],
        )
    return tr(
        "The signal swings by only {level_v:.3g} {unit} from peak to peak; {f}.",
        level_v=f["level_v"],
        unit=f["unit"],
        f=_usual_height(f),
    )


def _usual_height(f: dict) -> str:
    if "milliamps" in f:
        low, high = f["milliamps"]
        return tr("its levels are {low:.1f} and {high:.1f} mA where about 7 and 14 mA are usual", low=low, high=high)
    if f.get("known_good") is not None:
        return tr("the known-good capture gives {known_good:.2f} V for this speed", known_good=f["known_good"])
    return tr(
        "at {teeth_a_second:.0f} teeth a second at least {least:.2g} V is usual",
        teeth_a_second=f["teeth_a_second"],
        least=f["least"],
    )


_CONNECTED = {"unplugged": tr(", unplugged"), "loaded": tr(", under a load"), "plugged": tr(", plugged in")}


def _connected(f: dict) -> str:
    return _CONNECTED.get(f.get("connection", ""), "")


def _weak_strike(f: dict) -> str:
    beside = tr("the other sensor") if f["sensors"] == 2 else tr("the others")
    against = tr(" as in the known-good capture") if f["reference"] else ""
    said = tr(
        "Answers {ratio} as tall as {beside}{against}{f} ({low} to {high}, {strikes}).",
        ratio=_percent(f["ratio"]),
        beside=beside,
        against=against,
        f=_connected(f),
        low=_percent(f["low"]),
        high=_percent(f["high"]),
        strikes=_strikes(f["strikes"]),
    )
    if f.get("places", 1) > 1:
        return said + tr(" Struck at {places} places, so that it is not where the tap fell.", places=f["places"])
    if f["reference"]:
        return said
    return said + tr(" One place alone: a tap nearer to the other one makes some of that.")


def _weak_strike_sure(f: dict) -> str:
    more = {
        "unplugged": tr("then with 20 to 50 kilohm across each"),
        "loaded": tr("then plugged in"),
        "plugged": tr("then unplugged, to part the sensor from what loads it"),
    }
    return tr(
        "Tap as often at a place nearer to this sensor, {connection}.",
        connection=more.get(f["connection"], tr("unplugged and under 20 to 50 kilohm")),
    )


def _loaded_down(f: dict) -> str:
    return tr(
        "Plugged in it answers {ratio} as tall, against the other sensor, as it does unplugged ({low} to "
        "{high}): the sensor gives, the circuit holds it down.",
        ratio=_percent(f["ratio"]),
        low=_percent(f["low"]),
        high=_percent(f["high"]),
    )


_ODD_BY = {
    "reference": tr("it is the one that has moved against the known-good capture"),
    "others": tr("the others ring alike"),
    "band": tr("the other one lies in the band in which this bore knocks"),
    "lower": tr("which of two is wrong is not certain: damage, a crack or a loose bolt lowers a ring"),
}


def _ring_mismatch(f: dict) -> str:
    if "other" not in f:  # judged over the whole set
        doubt = (
            ""
            if f["sure"]
            else tr(" Which of two is wrong is not certain: damage, a crack or a loose bolt lowers a ring.")
        )
        return tr(
            "Rings at {frequency_hz:,.0f} Hz where the other rings at {other_hz:,.0f} Hz ({strikes}): however "
            "tall, they do not match.{doubt}",
            frequency_hz=f["frequency_hz"],
            other_hz=f["other_hz"],
            strikes=_strikes(f["strikes"]),
            doubt=doubt,
        )
    low, high = sorted((abs(f["low"]), abs(f["high"])))
    said = tr(
        "Rings at {frequency_hz:,.0f} Hz, {other} at {other_hz:,.0f} Hz: {difference:,.0f} Hz apart ({low:,.0f} "
        "to {high:,.0f}). However tall, they do not match; {odd_by}.",
        frequency_hz=f["frequency_hz"],
        other=f["other"],
        other_hz=f["other_hz"],
        difference=abs(f["difference"]),
        low=low,
        high=high,
        odd_by=_ODD_BY[f["odd_by"]],
    )
    if f["band"]:
        first, _, last = f["band"]
        said += tr(" First mode of this bore, estimated: {first:,.0f} to {last:,.0f} Hz.", first=first, last=last)
    return said


def probe_note(column: str, doubt) -> str:
    """What is wrong with a channel's probe, and what to set."""
    said = {
        "ac_coupled": tr("it swings about nought: AC coupling is on. Set DC and record again; its timing is read, its levels are " "not judged"),
        "crossed": tr("it lies below ground: the probe's two leads are crossed. Its timing is read, its levels are not judged"),
        "factor": tr("its scale cannot be right: a probe factor of {factor:g} would fit. Its levels are not judged", factor=doubt.factor or 1),
    }  # fmt: skip
    return f"{column}: {said[doubt.kind]}"


def rest_note(column: str, last_s: float) -> str:
    """What is said of teeth that end before the recording does, where nothing tells that the shaft still turned."""
    return tr(
        "{column}: no tooth after {last_s:.2f} s: the shaft came to rest, as far as its last teeth tell",
        column=column,
        last_s=last_s,
    )


def tap_notes(tapped, findings) -> tuple[str, ...]:
    """What has to be said of a capture of taps beside its findings."""
    strikes, notes = tapped.strikes, []
    bounced = sum(1 for bounce in strikes.bounces if bounce)
    if bounced:
        notes.append(tr("{bounced} bounced or came double: only the first touch counts", bounced=_strikes(bounced)))
    if len(strikes.columns) == 1:
        notes.append(tr("one sensor alone: its height depends on how hard it was struck; record its twin beside it"))
    grave = [finding for finding in findings if finding.kind in (FindingKind.WEAK_STRIKE, FindingKind.NO_SIGNAL)]
    open_ = [str(tapped.connection(index)) == "unplugged" for index in range(len(strikes.columns))]
    if len(strikes) and not grave and all(open_):
        notes.append(OPEN_ALONE)
    return tuple(notes)


def _noise(f: dict) -> str:
    if "usual" in f:
        return tr(
            "Noise of {floor:.3g} {unit} and {hum:.3g} {unit} of hum stand against rings of {usual:.3g} {unit}; "
            "the other channel is quieter.",
            floor=f["floor"],
            unit=f["unit"],
            hum=f["hum"],
            usual=f["usual"],
        )
    what = []
    if f["false_pulses"]:
        what.append(
            tr(
                "{false_pulses} pulses too narrow to be teeth lie between {teeth} teeth",
                false_pulses=f["false_pulses"],
                teeth=f["teeth"],
            )
        )
    if f["near_misses"]:
        what.append(tr("{near_misses} disturbances come near to making false edges", near_misses=f["near_misses"]))
    if f.get("hum_v"):
        what.append(
            tr(
                "hum of the mains ({hum_hz:.0f} Hz, ±{hum_v:.2f} {unit}) lies over the teeth",
                hum_hz=f["hum_hz"],
                hum_v=f["hum_v"],
                unit=f["unit"],
            )
        )
    if f["loud"]:
        what.append(tr("noise of ±{level_v:.2f} {unit} rides on the signal", level_v=f["level_v"], unit=f["unit"]))
    said = "; ".join(what)
    return titled(said) + "."


def _rail(falls: bool) -> Callable[[dict], str]:
    def said(f: dict) -> str:
        when = (
            tr("for the whole recording")
            if f["whole"]
            else tr("from {start_s:.4f} s to {end_s:.4f} s", start_s=f["start_s"], end_s=f["end_s"])
        )
        long = tr("({end_s:.0f} ms)", end_s=1000 * (f["end_s"] - f["start_s"]))
        if f.get("stretches", 1) > 1:
            when, long = (
                tr(
                    "{stretches} times between {start_s:.3f} s and {end_s:.3f} s,",
                    stretches=f["stretches"],
                    start_s=f["start_s"],
                    end_s=f["end_s"],
                ),
                tr("at the worst"),
            )
        if falls:
            return tr(
                "The feed falls to {level_v:.2f} V {when} {long}; {nominal:g} V is nominal, and below "
                "{limit:.1f} V the sensor cannot be relied on.",
                level_v=f["level_v"],
                when=when,
                long=long,
                nominal=f["nominal"],
                limit=f["limit"],
            )
        return tr(
            "The return rises to {level_v:.2f} V above battery negative {when} {long}; a good one stays below 0.1 V.",
            level_v=f["level_v"],
            when=when,
            long=long,
        )

    return said


# the wheel ---------------------------------------------------------------------------------


def _extra_gap(f: dict) -> str:
    several = f["last_tooth"] != f["tooth"]
    which = (
        tr("teeth {tooth} to {last_tooth} are", tooth=f["tooth"], last_tooth=f["last_tooth"])
        if several
        else tr("tooth {tooth} is", tooth=f["tooth"])
    )
    where = (
        tr("on a wheel that should have no gap")
        if f["even_wheel"]
        else tr("{angle_deg:.0f}° after the reference gap", angle_deg=f["angle_deg"])
    )
    return tr(
        "One gap too many: {which} not seen ({several}) in {seen} of {turns} turns, {where}. The space there is "
        "{pitches:.2f} pitches long.{f}",
        which=which,
        several=tr("teeth or magnets") if several else tr("tooth or magnet"),
        seen=f["seen"],
        turns=f["turns"],
        where=where,
        pitches=f["pitches"],
        f=_what_else_a_gap_may_be(f),
    )


def _what_else_a_gap_may_be(f: dict) -> str:
    """What one capture cannot tell about teeth missing beside a reference gap or like one."""
    if f["even_wheel"]:
        return tr(" Teeth are counted from the one behind it.")
    if f["beside_reference"]:
        return tr(" It lies next to the reference gap, so it may be the tooth on the gap's other side.")
    if f.get("half_wheel"):
        return tr(
            " It lies opposite the reference gap: a {half_wheel} wheel would show the same.", half_wheel=f["half_wheel"]
        )
    if f.get("other_tooth"):
        return tr(
            " Both gaps are equally long: this one could as well be the reference gap, and what is missing then "
            "starts at tooth {other_tooth}.",
            other_tooth=f["other_tooth"],
        )
    return ""


def _extra_gap_sure(f: dict) -> str:
    if not f["repeats"]:
        return tr("Record at least three turns: one gap seen once may be an interruption.")
    return tr(
        "Turn the engine by hand and look at that tooth through the sensor's hole; on a magnet ring use a viewing card."
    )


def odd_words(measure: str, size: float, than: str = "") -> str:
    """How a tooth differs, for a measure of `signal.measures.LEAST`."""
    percent, than = tr("{size:.0f} %", size=abs(100 * size)), than or tr("than the others")
    if measure.startswith("phase_error"):
        return tr("comes {percent} of a pitch {size}", percent=percent, size=tr("late") if size > 0 else tr("early"))
    if measure == "width":
        return tr(
            "holds the signal low {percent} of a pitch {size} {than}",
            percent=percent,
            size=tr("longer") if size > 0 else tr("shorter"),
            than=than,
        )
    return tr(
        "is {percent} {size} {than} for its speed",
        percent=percent,
        size=tr("taller") if size > 0 else tr("lower"),
        than=than,
    )


def in_turns(seen: int, turns: int) -> str:
    """In how many turns something was seen; "each" only where it was seen in each."""
    if turns <= 1:
        return tr("in the one turn that is whole")
    if seen >= turns:
        return tr("in both turns") if turns == 2 else tr("in each of {turns} turns", turns=turns)
    return tr("in {seen} of {turns} turns", seen=seen, turns=turns)


def _after_gap(f: dict) -> str:
    """Where on the wheel, counted from its gap; "" of a wheel without one, where teeth are counted from the first seen."""
    return "" if f.get("even_wheel") else tr(", {angle_deg:.0f}° after the reference gap,", angle_deg=f["angle_deg"])


def beyond_chance(errors: float) -> str:
    """How seldom chance alone makes as much, for so many standard errors (normal law, both tails)."""
    chance = math.erfc(errors / math.sqrt(2.0))
    if chance < 1e-4:
        return tr("far beyond chance: less than 1 in 10,000")
    return tr("beyond chance: about 1 in {it:,.0f}", it=float(f"{1 / chance:.1g}"))


def _odd_tooth(f: dict) -> str:
    seen = in_turns(f.get("seen", f["turns"]), f["turns"])
    after = _after_gap(f)
    if f["measure"] == "cam_edge":
        others = len(f["edges"]) - 1
        more = (
            tr(
                " {others} of {of} {others_2} too.",
                others=trn("{count} more edge", "{count} more edges", others),
                of=f["of"],
                others_2=tr("strays") if others == 1 else tr("stray"),
            )
            if others
            else ""
        )
        return tr(
            "Edge {tooth} of the cam's cycle, {angle_deg:.0f}° in the known-good capture, comes {size:.1f}° of "
            "the crank {size_2} while the others agree: a vane or tooth of the cam's wheel is bent or worn.{more}",
            tooth=f["tooth"],
            angle_deg=f["angle_deg"],
            size=abs(f["size"]),
            size_2=tr("late") if f["size"] > 0 else tr("early"),
            more=more,
        )
    if f["measure"] == "between":
        return tr(
            "A pulse too many between teeth {tooth} and {it}{after} {seen}: something stands between two teeth "
            "there (swarf, a dent).",
            tooth=f["tooth"],
            it=f.get("next", f["tooth"] + 1),
            after=after or ",",
            seen=seen,
        )
    if f["measure"] == "bridged":
        return tr(
            "No space between teeth {it} and {tooth}{after} {seen}: the signal stays from one to the other, "
            "something bridges them (swarf).",
            it=f.get("before", f["tooth"] - 1),
            tooth=f["tooth"],
            after=after or ",",
            seen=seen,
        )
    if f.get("last_tooth", f["tooth"]) != f["tooth"]:
        return tr(
            "Teeth {tooth} to {last_tooth}{after} are {size:.0f} % {size_2} than the others for their speed "
            "{seen}: something is on the wheel there (rust, swarf), or it is bent.",
            tooth=f["tooth"],
            last_tooth=f["last_tooth"],
            after=after,
            size=abs(100 * f["size"]),
            size_2=tr("taller") if f["size"] > 0 else tr("lower"),
            seen=seen,
        )
    if "slow_rpm" in f:
        return tr(
            "Tooth {tooth}{after} {measure} at {fast_rpm:.0f} rpm ({surprise}), {slow_size} at {slow_rpm:.0f} "
            "rpm: it leaves its place as the wheel gains speed, as the ring does that is split or loose there.",
            tooth=f["tooth"],
            after=after,
            measure=odd_words(f["measure"], f["size"]),
            fast_rpm=f["fast_rpm"],
            surprise=beyond_chance(f["surprise"]),
            slow_size=_percent(f["slow_size"]),
            slow_rpm=f["slow_rpm"],
        )
    return tr(
        "Tooth {tooth}{after} {measure} {seen} ({surprise}).",
        tooth=f["tooth"],
        after=after,
        measure=odd_words(f["measure"], f["size"]),
        seen=seen,
        surprise=beyond_chance(f["surprise"]),
    )


def _runout(f: dict) -> str:
    return tr(
        "The {what} swings by ±{depth} of its mean once a turn, {turns}: wheel or shaft does not run true.",
        what=f["what"],
        depth=_percent(f["depth"]),
        turns=in_turns(f["turns"], f["turns"]),
    )


def _how_irregular(f: dict) -> str:
    """How many of them were missed, and how many came double."""
    ways = (("missed", tr("missed")), ("doubled", tr("doubled")))
    told = [f"{count} {words}" for what, words in ways if (count := f.get(what, 0))]
    return f" ({', '.join(told)})" if told else ""


def _erratic(f: dict) -> str:
    return tr(
        "{share_seen} of {teeth} teeth come irregularly{f}, at another place each turn: not the wheel, which "
        "would repeat.",
        share_seen=_percent(f["share_seen"]),
        teeth=f["teeth"],
        f=_how_irregular(f),
    )


def _dropout(f: dict) -> str:
    long = tr("{end_s:.0f} ms", end_s=1000 * (f["end_s"] - f["start_s"]))
    if "edges" in f:
        return tr(
            "The cam's signal stops at {start_s:.4f} s for {long} ({edges} edges of its cycle do not come) while "
            "the crank turns on.",
            start_s=f["start_s"],
            long=long,
            edges=f["edges"],
        )
    ending = tr("does not come back")
    if f["back"]:
        ending = (
            tr("comes back slowly, as a shaft that starts")
            if f.get("from_rest")
            else tr("comes back at the speed of a turning shaft")
        )
    return tr(
        "The signal stops at {start_s:.4f} s for {long} (about {teeth} at the usual speed); the last teeth "
        "before do not slow down as a shaft does that comes to rest, and it {ending}.{rails}",
        start_s=f["start_s"],
        long=long,
        teeth=_teeth(round(f["teeth"])),
        ending=ending,
        rails="".join(_rail_did(item) for item in f["rails"]),
    )


def _dropout_sure(f: dict) -> str:
    watched = set(f.get("watched", ()))
    if {"supply", "ground"} <= watched:
        # Both rails are in the picture: nothing is gained by recording them again.
        held = (
            tr("Feed and return are in the recording and held")
            if not f.get("rails")
            else tr("Feed and return are in the recording")
        )
        return tr(
            "{held}: wiggle plug and harness and warm the sensor while the signal is recorded for a long time.",
            held=held,
        )
    missing = [name for role, name in (("supply", tr("feed")), ("ground", tr("return"))) if role not in watched]
    return tr(
        "Record the signal and {missing} together for a long time and wiggle plug and harness.",
        missing=joined_and(missing),
    )


def _rail_did(did: dict) -> str:
    what = tr("the supply fell") if did["kind"] == FindingKind.SUPPLY_LOSS else tr("the return rose")
    ahead = did["ahead_s"]
    order = tr("at the same tooth")
    if ahead is not None:
        order = tr(
            "{ahead:.1f} ms {ahead_2} that", ahead=1000 * abs(ahead), ahead_2=tr("before") if ahead > 0 else tr("after")
        )
    return tr(" On {channel} {what} {order}.", channel=did["channel"], what=what, order=order)


def _wrong_pattern(f: dict) -> str:
    if "shape" in f:
        words = CAM_SHAPES[f["shape"]]
        return f"{titled(words)}."
    seen = (
        tr("an even wheel: no gap in {teeth} teeth", teeth=f["teeth"])
        if f["slots"] is None
        else tr("{wheel}, the same in {turns} turns", wheel=f["wheel"], turns=f["turns"])
    )
    return tr(
        "The wheel is sound but not the one expected: {declared} is stated, the signal shows {seen}.",
        declared=f["declared"],
        seen=seen,
    )


def _reversed_polarity(f: dict) -> str:
    return tr(
        "The sharp crossing at each tooth is {seen}, where {declared} is stated, and the gap shows the wrong way "
        "round: the two wires are crossed.",
        seen=f["seen"],
        declared=f["declared"],
    )


# cam against crank --------------------------------------------------------------------------


def _timing_scatter(f: dict) -> str:
    return tr(
        "The cam's edges wander against the crank by {wide_deg:.1f}° of the crank (standard deviation "
        "{scatter_deg:.1f}°) over {cycles:.0f} cycles, not to one side: chain or belt has play.",
        wide_deg=f["wide_deg"],
        scatter_deg=f["scatter_deg"],
        cycles=f["cycles"],
    )


#: crank sprockets have from so many to so many teeth (common practice, no published source), and a shift is told in teeth
#: only within a tenth of a whole one
SPROCKETS, WHOLE_TOOTH = (15, 48), 0.1


def _belt_teeth(offset: float, teeth: float | None, sprocket: int | None) -> str:
    """A shift in teeth of belt or chain, where it is a whole number of them."""
    if teeth is not None:
        if round(teeth) >= 1 and abs(teeth - round(teeth)) <= WHOLE_TOOTH:
            return tr(
                " That is {teeth} of the {sprocket}-tooth crank sprocket.",
                teeth=_teeth(round(teeth)),
                sprocket=sprocket,
            )
        return tr(" That is no whole number of teeth of the {sprocket}-tooth crank sprocket.", sprocket=sprocket)
    count = 360.0 / max(abs(offset), 1e-9)
    if SPROCKETS[0] <= count <= SPROCKETS[1] and abs(count - round(count)) <= WHOLE_TOOTH:
        return tr(" One tooth of a {count}-tooth crank sprocket would make as much.", count=round(count))
    return ""


def _timing_offset(f: dict) -> str:
    offset = f["offset_deg"]
    belt = _belt_teeth(offset, f["belt_teeth"], f["sprocket"])
    if f.get("slipped_s") is not None:
        return tr(
            "From {slipped_s:.2f} s on the cam's edges come {offset:.1f}° of the crank {offset_2} than before: a "
            "belt or chain jumped, or a wheel slipped on its shaft, while this was recorded.{belt}",
            slipped_s=f["slipped_s"],
            offset=abs(offset),
            offset_2=tr("later") if offset > 0 else tr("earlier"),
            belt=belt,
        )
    beside = {
        None: "",
        True: tr(" The other cam is where it should be."),
        False: tr(" The other cam has moved as well."),
    }
    return tr(
        "All {edges} cam edges come {offset:.1f}° of the crank {offset_2} against the known-good capture, "
        "steadily over {cycles:.0f} cycles.{belt}{beside}",
        edges=f["edges"],
        offset=abs(offset),
        offset_2=tr("late") if offset > 0 else tr("early"),
        cycles=f["cycles"],
        belt=belt,
        beside=beside[f["others_on_time"]],
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
    FindingKind.UNDERSAMPLED: lambda f: tr("Record again with at least {rate_hz}.", rate_hz=_rate(f['rate_hz'])),
    FindingKind.CLIPPED: _clipped_sure,
    FindingKind.TOO_SHORT: lambda f: tr("Record at least {wanted_s:g} s: six turns or more.", wanted_s=f['wanted_s']),
    FindingKind.NO_SIGNAL: _no_signal_sure,
    FindingKind.WEAK_STRIKE: _weak_strike_sure,
    FindingKind.LOADED_DOWN: (
        tr("Unplug both and tap as before; then ohms of its wires, to each other and to the shield, and the " "module's load.")
    ),
    FindingKind.RING_MISMATCH: (
        tr("Check its tightening torque, its seat and its part number, tap again from another place, then swap left " "and right.")
    ),
    FindingKind.LOW_NOT_PULLED_DOWN: (
        tr("Measure the sensor's return against battery negative while cranking: if it stays below 0.1 V, the " "sensor itself does not pull down.")
    ),
    FindingKind.HIGH_NOT_REACHED: (
        tr("Unplug the sensor with the key on: if the harness side now shows the full pull-up, the sensor loads it; " "if not, the wire or the module does.")
    ),
    FindingKind.WEAK_AMPLITUDE: (
        tr("Check the gap to the wheel, then the sensor's resistance against the maker's value at its temperature.")
    ),
    FindingKind.NOISE: (
        tr("Move the harness away from ignition and alternator leads, check the shield's ground, and capture again.")
    ),
    FindingKind.SUPPLY_LOSS: tr("Measure the feed at fuse, relay and plug under load, and see who else shares it."),
    FindingKind.GROUND_LIFT: (
        tr("Measure the drop along the return under load, from plug to battery negative, while wiggling the harness.")
    ),
    FindingKind.EXTRA_GAP: _extra_gap_sure,
    FindingKind.ODD_TOOTH: (
        tr("Look at that tooth through the sensor's hole: chipped, bent, or something stuck to it.")
    ),
    FindingKind.RUNOUT: tr("Set a dial gauge on the wheel and turn the engine by hand."),
    FindingKind.ERRATIC: (
        tr("Look at the sensor's seat: rust under the flange, a loose bolt, a struck tip; then capture again.")
    ),
    FindingKind.DROPOUT: _dropout_sure,
    FindingKind.WRONG_PATTERN: (
        tr("Compare the part number of wheel, flywheel or bearing with the maker's list for this engine.")
    ),
    FindingKind.REVERSED_POLARITY: (
        tr("Compare wire colours at the plug with the drawing, and make sure the probe's own leads are not swapped.")
    ),
    FindingKind.TIMING_SCATTER: tr("Check the tensioner and the chain's length; compare with the other bank."),
    FindingKind.TIMING_OFFSET: (
        tr("Set the engine to its timing marks and look before anything else: cranking on may bend valves.")
    ),
}  # fmt: skip


def comparison_words(item) -> str:
    """How a channel differs from the known-good capture."""
    low, high = (round(level.difference, 2) + 0.0 for level in (item.low, item.high))
    levels = tr("low level {low:+.2f} V, high level {high:+.2f} V against the known-good capture.", low=low, high=high)
    if item.cam is not None:
        if item.cam.shape:
            return f"{CAM_SHAPES[item.cam.shape]}; {levels}"
        late = tr("late") if item.cam.offset > 0 else tr("early")
        shift = tr(
            "{offset:.1f}° of the crank {late} (± {u:.1f}°)", offset=abs(item.cam.offset), late=late, u=2 * item.cam.u
        )
        moved = [
            tr("edge {edge} by {difference:+.1f}°", edge=edge.edge, difference=edge.difference - item.cam.offset)
            for edge in item.cam.moved
        ]
        beside = tr(", and besides {moved}", moved=", ".join(moved[:6])) if moved else tr(", every edge alike")
        return f"{shift}{beside}; {levels}"
    named = [f"{number} ({how})" if how else str(number) for number, how in item.named[:6]]
    more = tr(" and {teeth} more", teeth=len(item.teeth) - 6) if len(item.teeth) > 6 else ""
    where = tr("at tooth {named}{more}", named=", ".join(named), more=more) if item.teeth else tr("at no tooth")
    alike = (
        ""
        if item.likeness is None
        else tr("{likeness:.1f} % alike over a turn, differing {where}; ", likeness=100 * item.likeness, where=where)
    )
    return f"{alike}{levels}"


#: what a cam is whose edges are not those of the known-good one
CAM_SHAPES = {
    "mirrored": tr("the cam's pattern runs the other way round: a wheel fitted upside down, or another one"),
    "inverted": tr("the cam's pattern is upside down: tooth for gap, as another sensor or crossed leads make it"),
    "other": tr("the cam's edges are not those of the known-good capture: another cam wheel, or edges lost"),
}
