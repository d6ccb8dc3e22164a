"""What the pointer and the two cursors of a capture tell, as one line of figures."""

from __future__ import annotations

from sagen.report.scene import Place


def place_words(place: Place) -> str:
    """What a cursor tells."""
    told = [time_words(place.time_s), *(f"{value:.2f} {unit}" for _, value, unit in place.values[:3])]
    if place.angle_deg is not None:
        told.append(f"{place.angle_deg:.1f}°")
    if place.tooth is not None:
        told.append(f"tooth {place.tooth}")
    return "  ".join(told)


def difference_words(first: Place, second: Place) -> str:
    """What lies between two cursors."""
    apart = second.time_s - first.time_s
    told = [time_words(apart)]
    if first.angle_deg is not None and second.angle_deg is not None:
        told.append(f"{(second.angle_deg - first.angle_deg) % 360:.1f}°")
    if apart:
        told.append(f"{1 / abs(apart):.1f} Hz")
    told += [f"{b[1] - a[1]:+.2f} {a[2]}" for a, b in zip(first.values[:3], second.values[:3], strict=True)]
    return "  ".join(told)


def time_words(seconds: float) -> str:
    return f"{seconds * 1000:.3f} ms" if abs(seconds) < 10 else f"{seconds:.4f} s"
