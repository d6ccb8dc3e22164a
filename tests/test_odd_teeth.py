"""A tooth out of place, a split ring, and a shaft that nearly stalls: what each leaves on the teeth beside it."""

from __future__ import annotations

import numpy as np
import pytest

from sagen.model.wheel import Wheel
from sagen.signal.deviation import ToothDeviations, by_place, phase_errors
from sagen.signal.outliers import engine_orders, outstanding
from sagen.signal.wheel_search import read_teeth

SLOTS, TURNS = 36, 14


def _teeth(stretched=None, moved=0.0, at=12, wheel="36-1", noise=0.004, seed=5) -> tuple:
    """Teeth of a wheel that turns evenly but for what is wrong at one place: `moved` shifts that tooth, `stretched` holds the
    shaft up in the space behind it (pitches)."""
    rng = np.random.default_rng(seed)
    slot = np.arange(TURNS * SLOTS)
    passed = slot.astype(float)
    if stretched:
        passed += stretched * (slot // SLOTS + (slot % SLOTS >= at))
    passed[slot % SLOTS == at - 1] += moved
    seen = slot % SLOTS != SLOTS - 1
    times = (passed + rng.normal(0, noise, len(passed)))[seen] * 4e-3
    teeth = read_teeth(times, Wheel.parse(wheel))
    return teeth, by_place(teeth, phase_errors(teeth, times))


def _odd(errors: ToothDeviations) -> list[int]:
    limit = np.full(len(errors.number), 0.05)
    found = outstanding(errors, limit, 5.0, SLOTS, engine_orders(SLOTS, 4), spread=True)
    return [int(errors.number[place]) for place, _, _ in found]


@pytest.mark.parametrize("moved", [-0.3, -0.1, 0.12, 0.35])
def test_one_tooth_out_of_place_is_named(moved):
    assert _odd(_teeth(moved=moved)[1])[:1] == [12]


@pytest.mark.parametrize("wide", [0.3, 0.6])
def test_a_ring_that_has_split_is_named_beside_the_split(wide):
    """A pressed-on ring that splits opens one space to 1.3 to 1.6 pitches (common practice, no published source)."""
    assert _odd(_teeth(stretched=wide)[1])[0] in (12, 13)


@pytest.mark.parametrize(("wide", "odd"), [(0.5, True), (1.3, False)])
def test_a_shaft_held_up_for_more_than_a_pitch_is_no_odd_tooth(wide, odd):
    """No ring splits so far: the space is the engine's, that nearly stalls there (common practice, no published source)."""
    _, errors = _teeth()
    held = np.zeros(len(errors.by_place))
    held[10:14] = wide * np.array([1 / 6, -1 / 2, 1 / 2, -1 / 6])
    split = ToothDeviations(errors.values + held, errors.by_place + held, errors.scatter, errors.number)
    assert bool(_odd(split)) == odd


def test_a_bend_over_several_teeth_is_no_single_one():
    """A cubic through four neighbours leaves a single displaced point the factors 1, -2/3 and 1/6 (Lagrange's formula on
    even spacing); what a smooth bend leaves has another shape."""
    _, errors = _teeth()
    bent = np.zeros(len(errors.by_place))
    bent[10:16] = [0.02, 0.16, 0.2, -0.2, -0.16, -0.02]
    rows = errors.values + bent
    assert not _odd(ToothDeviations(rows, errors.by_place + bent, errors.scatter, errors.number))


def _passing(wheel: str, turns: int, pitch, shown: str | None) -> np.ndarray:
    """Read the numbers of a wheel whose pitches last as `pitch(angle in turns)` says."""
    form = Wheel.parse(wheel)
    gone = {*form.others, *range(form.slots - form.missing + 1, form.slots + 1)}
    slot = np.arange(turns * form.slots)
    times = np.concatenate([[0.0], np.cumsum(pitch(slot[:-1] / form.slots))])
    there = np.array([s % form.slots + 1 not in gone for s in slot])
    return read_teeth(times[there], Wheel.parse(shown) if shown else None)


def _deep(angle: np.ndarray) -> np.ndarray:
    """Three cylinders: one and a half compressions a turn, each so deep that a gap in it lasts eight paces."""
    return 3e-3 * (1 + 2.1 * np.exp(-(((angle * 1.5 + 0.03) % 1 - 0.5) ** 2) / 0.004))


def test_a_gap_in_the_slow_part_of_a_compression_does_not_cut_the_row():
    teeth = _passing("60: 19-20, 59-60", 16, _deep, "60: 19-20, 59-60")
    assert teeth.wheel.slots == 60
    assert not [n for n, share in teeth.lost.items() if share > 0.2]
    assert set(np.unique(teeth.spans)) == {1, 3}


def test_every_other_turn_alike_is_still_the_stated_wheel():
    teeth = _passing("48-2", 12, _deep, "48-2")
    assert (teeth.wheel.slots, teeth.wheel.missing) == (48, 2)
    assert not teeth.lost


def test_an_unstated_wheel_with_a_tooth_lost_is_the_usual_wheel_with_a_tooth_lost():
    gone = {7, 36}
    slot = np.arange(14 * 36)
    times = np.cumsum(4e-3 * (1 + 0.15 * np.sin(2 * np.pi * 2 * slot / 36)))
    teeth = read_teeth(times[[s % 36 + 1 not in gone for s in slot]], None)
    assert (teeth.wheel.slots, teeth.wheel.missing) == (36, 1)
    lost = {n for n, share in teeth.lost.items() if share > 0.8}
    # Of two gaps alike nobody can tell which is the reference: the other is 7 slots on, or 29.
    assert lost in ({7}, {29})


def test_behind_a_loss_teeth_are_counted_anew():
    # Four teeth that do not come once: all before and behind keep their numbers, by the count of slots alone.
    for wheel, at in (("24-1", 9), ("36-1", 31), ("60-2", 20), ("60-2", 55)):
        form = Wheel.parse(wheel)
        slot = np.arange(40 * form.slots)
        there = slot[slot % form.slots < form.slots - form.missing]
        first = 20 * form.slots + at
        seen = there[(there < first) | (there >= first + 4)]
        teeth = read_teeth(seen * 2.5e-3, form)
        assert np.array_equal(teeth.number, seen % form.slots + 1), (wheel, at)
        assert teeth.wheel == form


def test_a_row_of_teeth_that_is_gone_leaves_the_stated_wheel():
    for wheel, gone in (("36-1", (10, 13)), ("60-2", (30, 36)), ("24-1", (8, 12))):
        form = Wheel.parse(wheel)
        slot = np.arange(12 * form.slots)
        number = slot % form.slots + 1
        there = (number <= form.slots - form.missing) & ~((number >= gone[0]) & (number <= gone[1]))
        teeth = read_teeth(slot[there] * 2.5e-3, form)
        assert teeth.wheel == form
        assert set(teeth.lost) == set(range(gone[0], gone[1] + 1))
