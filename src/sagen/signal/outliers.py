"""Single teeth that stray from the others by more than their own scatter explains."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from sagen.signal.deviation import ToothDeviations, waves
from sagen.signal.limits import limits

_LIMIT = limits("outstanding")


def engine_orders(slots: int, cylinders: int | None) -> tuple[int, ...]:
    """Waves a turn that an engine's compression or an eccentric wheel makes, as far as the wheel resolves them.

    Parameters
    ----------
    slots : int
        places of the wheel
    cylinders : int or None
        of a four-stroke engine, two a turn for four; None where nobody said

    Returns
    -------
    tuple of int
        periods a turn, none above half the places

    References
    ----------
    Firing intervals of four-stroke engines: Heywood, Internal Combustion Engine Fundamentals (1988). From memory.
    """
    firing = [k * (cylinders or 4) // 2 for k in (1, 2) if (k * (cylinders or 4)) % 2 == 0]
    return tuple(sorted({1, 2, *firing} & set(range(1, max(slots // 5, 2) + 1))))


#: what the cubic makes of a single tooth out of place, and of a space that is too wide with its teeth where they were
TOOTH, SPACE = np.array([1 / 6, -2 / 3, 1.0, -2 / 3, 1 / 6]), np.array([1 / 6, -1 / 2, 1 / 2, -1 / 6])


def _is_print(value: np.ndarray, errors: ToothDeviations, place: int) -> bool:
    """Whether the places around one stray as a single tooth out of place makes them, or a ring that has slipped there; a
    shaft that nearly stalls bends them, too, but otherwise."""
    noise = errors.standard_error(0.0) ** 2

    def fits(first: int, share: np.ndarray) -> bool:
        seen = value[(place + first + np.arange(len(share))) % len(value)]
        left = seen - share * (share @ seen) / (share @ share)
        allowed = _LIMIT.not_its_print * float(seen @ seen) + _LIMIT.print_noise * len(share) * noise
        return float(left @ left) <= allowed

    if fits(-2, TOOTH):
        return True
    return abs(value[place]) <= _LIMIT.most_slipped and (fits(-1, SPACE) or fits(-2, SPACE))


def outstanding(
    errors: ToothDeviations, limit: np.ndarray, sure: float, slots: int, orders: tuple[int, ...], *, spread: bool
) -> Iterator[tuple[int, float, float]]:
    """Places that stray significantly, largest first: place, size, and standard errors beyond the others.

    Each place in turn is fitted together with the waves of `orders` a turn and with the places found before; the
    one that explains most is the odd one. A late tooth makes its neighbours look early by two thirds (the cubic
    through them): with `spread` that whole footprint is fitted. What is left over tells how well it is known.

    Parameters
    ----------
    errors : ToothDeviations
        a measure by place, with standard errors
    limit : ndarray, shape (places,)
        the least size that counts, in the unit of the measure
    sure : float
        standard errors that a place must stray beyond the others
    slots : int
        places of the wheel
    orders : tuple of int
        periods a turn that the engine explains
    spread : bool
        whether a tooth leaves a footprint on its neighbours

    Yields
    ------
    place, size, beyond : int, float, float
        in the unit of the measure, and in standard errors; forward stepwise least squares

    References
    ----------
    Outliers found one after the other: Rosner, Technometrics 25(2), 1983. From memory.
    """
    value = errors.by_place - np.median(errors.by_place)
    count = len(value)
    footprint = {-2: 1 / 6, -1: -2 / 3, 0: 1.0, 1: -2 / 3, 2: 1 / 6} if spread else {0: 1.0}
    prints = sum(share * np.roll(np.eye(count), offset, axis=0) for offset, share in footprint.items())
    taken = waves(errors.number, slots, orders)
    if count < taken.shape[1] + 4:
        return
    # The spread of a dozen teeth is known worse than that of sixty: about Student's t against the normal law.
    sure *= 1 + max(0.0, _LIMIT.few_teeth / count - _LIMIT.few_teeth / _LIMIT.many_teeth)
    for _ in range(_LIMIT.most_odd):
        basis = np.linalg.qr(taken)[0]
        free, rest = prints - basis @ (basis.T @ prints), value - basis @ (basis.T @ value)
        room = (free**2).sum(axis=0)  # little is left of a print that the waves can make as well
        size = np.where(
            room > _LIMIT.least_room, (free * rest[:, None]).sum(axis=0) / np.maximum(room, _LIMIT.least_room), 0.0
        )
        place = int(np.argmax(size**2 * room / limit**2))
        left = rest - free[:, place] * size[place]
        scatter = 1.4826 * float(np.median(np.abs(left - np.median(left))))
        scatter *= np.sqrt(count / (count - taken.shape[1] - 1))
        error = errors.standard_error(scatter) / min(1.0, float(np.sqrt(room[place])))
        # Rounding to samples mimics the print of a small shift: the tooth itself must stray as far.
        itself = float(left[place] + size[place])
        least = min(abs(itself), abs(float(size[place])))
        if least < max(sure * error, limit[place]):
            return
        if not spread or _is_print(value, errors, place):
            yield place, itself, least / error
        taken = np.column_stack([taken, prints[:, place]])
