"""What the pointer and the two cursors of a capture tell, as one line of figures."""

from __future__ import annotations

from sagen.model.language import tr
from sagen.report.scene import Place


def place_words(place: Place) -> str:
    """What a cursor tells."""
    told = [
        time_words(place.time_s),
        *(tr("{value:.2f} {unit}", value=value, unit=unit) for _, value, unit in place.values[:3]),
    ]
    if place.angle_deg is not None:
        told.append(tr("{angle_deg:.1f}°", angle_deg=place.angle_deg))
    if place.tooth is not None:
        told.append(tr("tooth {tooth}", tooth=place.tooth))
    return "  ".join(told)


def difference_words(first: Place, second: Place) -> str:
    """What lies between two cursors."""
    apart = second.time_s - first.time_s
    told = [time_words(apart)]
    if first.angle_deg is not None and second.angle_deg is not None:
        told.append(tr("{angle_deg:.1f}°", angle_deg=(second.angle_deg - first.angle_deg) % 360))
    if apart:
        told.append(tr("{apart:.1f} Hz", apart=1 / abs(apart)))
    told += [
        tr("{b:+.2f} {a}", b=b[1] - a[1], a=a[2]) for a, b in zip(first.values[:3], second.values[:3], strict=True)
    ]
    return "  ".join(told)


def time_words(seconds: float) -> str:
    return (
        tr("{seconds:.3f} ms", seconds=seconds * 1000) if abs(seconds) < 10 else tr("{seconds:.4f} s", seconds=seconds)
    )
