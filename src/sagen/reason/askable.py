"""What may be asked of a case as it stands: not what is known, not what a stated fact excludes, not what is dangerous now."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from sagen.model.vocabulary import (
    STARTING,
    TURNING,
    Capability,
    CheckKind,
    CodesBack,
    Complaint,
    FindingKind,
    Gear,
    Part,
    Point,
    Scan,
    State,
    can,
)
from sagen.reason.evidence import (
    OF_RUNNING,
    UNEVEN,
    Captured,
    Code,
    Complained,
    Cranked,
    Inspected,
    MeterReading,
    Pressed,
    ReadElsewhere,
    Scanned,
    Seen,
    Stayed,
)
from sagen.reason.facts import CheckFacts, Knowledge, Known, Need, knowledge
from sagen.reason.history import Case, Replaced, since_repair
from sagen.reason.posterior import Posterior
from sagen.reason.recording_likelihood import label_kind


def gone_since_repair(case: Case) -> bool:
    """Whether the complaint was said to be gone since a part was changed.

    Parameters
    ----------
    case : Case
    """
    told = [item.stayed for item in since_repair(case.trail) if isinstance(item, Stayed)]
    return bool(told) and not told[-1]


def findings_of(piece) -> frozenset[str]:
    """The findings that a piece of evidence holds."""
    if isinstance(piece, Captured):
        return piece.found
    if isinstance(piece, Inspected) and piece.outcome == "weak":
        return frozenset({FindingKind.WEAK_STRIKE})
    return frozenset({piece.finding}) if isinstance(piece, ReadElsewhere) else frozenset()


#: whether what a check needs is given; a new need is a row
NEEDS: dict[Need, Callable[[Case], bool]] = {
    Need.RUNS: lambda case: case.engine_runs != "no",
    Need.WHEEL_GAP: lambda case: case.spec.declared_wheel is None or bool(case.spec.declared_wheel.missing),
    Need.NO_WHEEL_GAP: lambda case: case.spec.declared_wheel is not None and not case.spec.declared_wheel.missing,
    Need.PUBLISHED: lambda case: case.spec.ohms is not None,
    Need.CODE: lambda case: any(isinstance(item, Code) for item in case.trail),
    Need.NO_SCOPE: lambda case: Gear.SCOPE not in case.gear,
    Need.BATTERY_FEED: lambda case: case.spec.supply is None or not case.spec.regulated,
    Need.OWN_FEED: lambda case: case.spec.supply is None or case.spec.regulated,
    Need.WEAK_SEEN: lambda case: any(FindingKind.WEAK_STRIKE in findings_of(item) for item in since_repair(case.trail)),
    Need.REPAIRED: lambda case: any(isinstance(item, Replaced) and not item.earlier for item in case.trail),
}


#: from this chance on timing counts as in doubt; a shift that was recorded or seen always does
TIMING_LIKELY = 0.25
#: states in which the starter or the engine itself turns the shafts
SHAFT_TURNS = frozenset({State.CRANKING, State.START, State.RUNNING, State.WIGGLE})


#: checks that need the engine to turn though what is read stands still
RUNS_BESIDES = frozenset({"codes_back", "complaint_after_the_repair"})
#: parts whose change leaves feed and return as they were
LEAVES_RAILS = frozenset({Part.SENSOR, Part.WHEEL, Part.SEAT})
#: faults that let piston and valve meet, and the parts on which they are seen
MEETING, TIMING_PARTS = ("belt_or_chain_off", "crank_key_sheared", "chain_stretched"), frozenset({"timing"})


#: states in which what a signal does is seen, not only where it rests
MOVED = TURNING | {State.WIGGLE, State.METAL_NEAR, State.METAL_AWAY, State.STRIKE}


def still_complained_of(case: Case) -> bool:
    """Whether the complaint stayed after a repair and the signal itself was not looked at since, while something moved it: whatever
    the odds, that is no circuit to call sound.

    Parameters
    ----------
    case : Case
    """
    since = since_repair(case.trail)
    stayed = [item.stayed for item in since if isinstance(item, Stayed)]
    looked_at = any(
        isinstance(item, Captured | Pressed | ReadElsewhere)
        or (isinstance(item, MeterReading) and item.point == Point.SIGNAL and item.state in MOVED)
        for item in since
    )
    return bool(stayed) and stayed[-1] and not looked_at


def timing_in_doubt(case: Case, by_fault: Mapping[str, float]) -> bool:
    """Whether belt, chain or key may be off, so that turning the engine by its starter may bend valves, until its marks were
    seen to agree.

    Parameters
    ----------
    by_fault : mapping
        probability of each fault mode
    """
    shifted = False
    likely = sum(by_fault.get(name, 0.0) for name in MEETING) >= TIMING_LIKELY and case.engine_runs != "yes"
    for piece in case.trail:
        if isinstance(piece, Replaced) and not piece.earlier and piece.part == Part.TIMING:
            shifted = False  # put right; the marks are owed all the same where it is still likely
        elif isinstance(piece, Inspected) and check_slug(piece.check) == "timing_marks":
            if not piece.outcome and piece.again and shifted:
                continue  # of two looks that differ the one that forbids it stands
            if not piece.outcome:
                shifted = likely = False
            else:
                shifted = True
        elif (
            isinstance(piece, Seen) and piece.bad and piece.thing in TIMING_PARTS
        ) or FindingKind.TIMING_OFFSET in findings_of(piece):
            shifted = True
    return shifted or likely


def can_be_asked(
    check: CheckFacts, case: Case, done: set[tuple], excluded: frozenset[str] = frozenset(), *, turning: bool = True
) -> bool:
    """Whether a check fits the circuit, the gear and the engine, and has not been answered; `turning`: whether the starter or
    the engine may turn the shafts.

    Parameters
    ----------
    check : CheckFacts
    case : Case
    done : set of tuple
        checks that were answered, each with its place and state
    excluded : frozenset of str
        slugs of checks that what is known makes silly; see `excluded_by`
    turning : bool
        see above
    """
    if check.slug in excluded:
        return False
    return (
        _can_be_done(check, case, turning)
        and all(NEEDS[need](case) for need in check.needs)
        and (check.kind, check.slug) not in done
        and (check.kind, check.point, check.state) not in done
    )


def moves_shaft(check: CheckFacts) -> bool:
    """Whether the starter or the engine turns the shafts for a check.

    Parameters
    ----------
    check : CheckFacts
    """
    return check.state in SHAFT_TURNS or check.slug in RUNS_BESIDES


def _complained_of_running(case: Case) -> bool:
    told = {item.name for item in case.trail if isinstance(item, Complained)}
    return bool(told & OF_RUNNING) and Complaint.NO_START not in told and case.engine_runs != "no"


def _can_be_done(check: CheckFacts, case: Case, turning: bool) -> bool:
    able = {*case.gear, Gear.EYES, Gear.PARTS, Gear.TESTER}
    return check.gear in able and check.fits(case.spec) and (turning or not moves_shaft(check))


STARTER = "ask_the_starter"  #: by whoever hears it
#: rpm below which a starter is slow and hardly fast enough (common practice, no published source: petrol engines are cranked at some two
#: hundred, cold diesels at less)
SLOW_RPM, HARDLY_RPM = 115.0, 150.0


def turned_poorly(case: Case) -> bool:
    """Whether the starter was last recorded to turn the engine hardly fast enough, or with a beat: whoever hears it knows whether that
    is usual for the engine.

    Parameters
    ----------
    case : Case
    """
    heard = [item for item in since_repair(case.trail) if isinstance(item, Cranked)]
    return bool(heard) and (heard[-1].rpm < HARDLY_RPM or (heard[-1].uneven or 0.0) > UNEVEN)


def done_already(case: Case) -> set[tuple]:
    """What has been measured, recorded or looked at since the last part was changed."""
    done: set[tuple] = set()
    for piece in case.trail:
        if isinstance(piece, Replaced):
            if not piece.earlier:
                rails = {
                    item for item in done if item[0] == CheckKind.METER and item[1] in (Point.SUPPLY, Point.GROUND)
                }
                done = rails if piece.part in LEAVES_RAILS else set()
        elif isinstance(piece, MeterReading):
            done.add((CheckKind.METER, piece.point, piece.state))
        elif isinstance(piece, Captured):
            done.add((CheckKind.CAPTURE, Point.SIGNAL, piece.state))
            if piece.places > 1:
                done.add((CheckKind.LOOK, "tap_from_another_place"))
            if piece.state in STARTING and not any(label_kind(item) == FindingKind.NO_SIGNAL for item in piece.found):
                # Pulses were seen to come, and how the shaft turned.
                done |= {(CheckKind.SCAN, Scan.RPM_CRANKING), (CheckKind.LOOK, STARTER)}
            # A rail that was recorded beside the signal need not be measured again.
            for rail, kind in ((Point.SUPPLY, FindingKind.SUPPLY_LOSS), (Point.GROUND, FindingKind.GROUND_LIFT)):
                if kind not in piece.unseen:
                    done |= {(CheckKind.METER, rail, state) for state in (piece.state, State.KEY_ON)}
        elif isinstance(piece, Inspected):
            done |= {(kind, check_slug(piece.check)) for kind in (CheckKind.LOOK, CheckKind.CAPTURE)}
        elif isinstance(piece, ReadElsewhere | Pressed) and piece.state:
            done.add((CheckKind.CAPTURE, Point.SIGNAL, piece.state))
        elif isinstance(piece, Scanned):
            done.add((CheckKind.SCAN, piece.what))
        elif isinstance(piece, Stayed):
            done.add((CheckKind.LOOK, "complaint_after_the_repair"))
    if turned_poorly(case) and not _looked(case, STARTER):
        done.discard((CheckKind.LOOK, STARTER))
    return done


def check_slug(name: str) -> str:
    """The slug of a check, by slug or by the name that older logs and files use; a name that is not known stays.

    Parameters
    ----------
    name : str
        a slug, or a name of older files
    """
    found = knowledge().check(name)
    return found.slug if found else name


def asked_again(case: Case, posterior: Posterior, facts: Knowledge, *, turning: bool = True) -> CheckFacts | None:
    """The check behind the one piece that a call hangs on, to be taken once more; None where it hangs on none, or that was taken
    twice already.

    Parameters
    ----------
    case : Case
    posterior : Posterior
        of that case
    facts : Knowledge
    turning : bool
        whether the starter or the engine may turn the shafts
    """
    piece = posterior.hangs_on
    if piece is None or posterior.survives >= facts.stakes.survives * max(posterior.by_cause().values()):
        return None
    since = since_repair(case.trail)
    if isinstance(piece, MeterReading):
        same = [item for item in since if isinstance(item, MeterReading) and _place_of(item) == _place_of(piece)]
        found = [check for check in facts.checks if _place_of(check) == _place_of(piece)]
    elif isinstance(piece, Inspected):
        same = [
            item for item in since if isinstance(item, Inspected) and check_slug(item.check) == check_slug(piece.check)
        ]
        found = [check for check in facts.checks if check.slug == check_slug(piece.check)]
    elif isinstance(piece, Captured):
        same = [item for item in since if isinstance(item, Captured) and item.state == piece.state]
        found = [check for check in facts.checks if check.kind == CheckKind.CAPTURE and check.state == piece.state]
    else:
        return None
    # Of a piece from before the repair nothing can be taken again.
    if len(same) != 1:
        return None
    return next((check for check in found if _can_be_done(check, case, turning)), None)


def _place_of(item: MeterReading | CheckFacts) -> tuple:
    kind = CheckKind.METER if isinstance(item, MeterReading) else item.kind
    return kind, item.point, item.state


# What is known, and what is then never asked -----------------------------------------------------------------

#: volts: a feed that is dead, and the share of what it should be from which on one is there; a return that is good under load; a
#: pull-up that is gone, and the share of a stated one at which nothing draws on it
DEAD_V, FEED_SHARE, LEAST_FEED_V, GOOD_RETURN_V, GONE_V, PULL_UP_SHARE = 1.0, 0.85, 4.5, 0.1, 0.3, 0.97
#: ohms from which on a coil is open
OPEN_OHM = 1e6
WIRE_THINGS = frozenset({"signal_wire", "supply_wire", "ground_wire", "harness"})


def _last_volts(case: Case, point: Point, *states: State) -> float | None:
    """The last reading at a point in one of the states, V, since what it tells of was changed; None where there is none."""
    with_any_part = point not in (Point.SUPPLY, Point.GROUND)
    for piece in reversed(case.trail):
        if isinstance(piece, Replaced) and not piece.earlier and (with_any_part or piece.part not in LEAVES_RAILS):
            return None
        if isinstance(piece, MeterReading) and not piece.ohms and piece.point == point and piece.state in states:
            return piece.value
    return None


def _feed(case: Case, *states: State) -> bool:
    """Whether the feed was read as it should be in one of the states."""
    value = _last_volts(case, Point.SUPPLY, *states)
    least = LEAST_FEED_V if case.spec.supply is None else FEED_SHARE * case.spec.supply
    return value is not None and value >= min(least, FEED_SHARE * 12.0)


def _looked(case: Case, slug: str, *outcomes: str) -> bool:
    """Whether the last look of a check since the repair came to one of the outcomes ("" is as expected), or to any where none is named."""
    found = [
        item for item in since_repair(case.trail) if isinstance(item, Inspected) and check_slug(item.check) == slug
    ]
    return bool(found) and (not outcomes or found[-1].outcome in outcomes)


def _rails_held(case: Case) -> bool:
    """Whether feed and return were seen to hold while the signal was lost."""
    recorded = (
        piece
        for piece in since_repair(case.trail)
        if isinstance(piece, Captured)
        and FindingKind.DROPOUT in piece.found
        and not {FindingKind.SUPPLY_LOSS, FindingKind.GROUND_LIFT} & (piece.found | piece.unseen)
    )
    return (
        any(True for _ in recorded)
        or _looked(case, "long_record", "signal_alone")
        or _looked(case, "drive_with_a_recorder", "signal_alone")
    )


def _pull_up_gone(case: Case) -> bool:
    value = _last_volts(case, Point.SIGNAL, State.KEY_ON_UNPLUGGED)
    return case.spec.pull_up is not None and value is not None and value < GONE_V


def _pull_up_there(case: Case) -> bool:
    value = _last_volts(case, Point.SIGNAL, State.KEY_ON_UNPLUGGED)
    return case.spec.pull_up is not None and value is not None and value >= PULL_UP_SHARE * case.spec.pull_up


def _feed_dead(case: Case) -> bool:
    value = _last_volts(case, Point.SUPPLY, State.KEY_ON, State.CRANKING, State.RUNNING)
    return value is not None and value < DEAD_V


def _return_good(case: Case) -> bool:
    # Without a feed nothing flows through the return that could lift it: of a coil's wire it says nothing.
    if not can(case.spec.sensor, Capability.FEED):
        return False
    value = _last_volts(case, Point.GROUND, State.CRANKING, State.RUNNING)
    return value is not None and abs(value) <= GOOD_RETURN_V


def _wire_seen_through(case: Case) -> bool:
    return any(
        isinstance(item, Seen) and item.bad and item.certain and item.thing in WIRE_THINGS
        for item in since_repair(case.trail)
    )


def _coil_open(case: Case) -> bool:
    return any(
        isinstance(item, MeterReading) and item.ohms and item.point == Point.SENSOR and item.value >= OPEN_OHM
        for item in since_repair(case.trail)
    )


def _back_at_once(case: Case) -> bool:
    return any(isinstance(item, Scanned) and item.value == CodesBack.AT_ONCE for item in since_repair(case.trail))


#: whether something is known of a case; a new one is a row here and one of `[[never]]` in the knowledge
KNOWN: dict[Known, Callable[[Case], bool]] = {
    Known.ENGINE_RUNS: lambda case: (
        (case.engine_runs == "yes" or _complained_of_running(case)) and not turned_poorly(case)
    ),
    Known.STARTER_STILL: lambda case: _looked(case, STARTER, "still"),
    Known.FEED_DEAD: _feed_dead,
    Known.FEED_GOOD: lambda case: _feed(case, State.KEY_ON),
    Known.FEED_GOOD_UNDER_LOAD: lambda case: _feed(case, State.CRANKING, State.RUNNING),
    Known.RETURN_GOOD_UNDER_LOAD: _return_good,
    Known.RAILS_HELD: _rails_held,
    Known.PULL_UP_GONE: _pull_up_gone,
    Known.PULL_UP_THERE: _pull_up_there,
    Known.ENDS_ALIKE: lambda case: _looked(case, "both_ends_of_the_signal_wire", ""),
    Known.WIRE_SEEN_THROUGH: _wire_seen_through,
    Known.COIL_OPEN: _coil_open,
    Known.BACK_AT_ONCE: _back_at_once,
}


def excluded_by(case: Case, facts: Knowledge) -> frozenset[str]:
    """Slugs of the checks that what is known makes silly.

    Parameters
    ----------
    case : Case
    facts : Knowledge
        with its table of what is never asked
    """
    return frozenset(slug for row in facts.never if KNOWN[row.known](case) for slug in row.checks)
