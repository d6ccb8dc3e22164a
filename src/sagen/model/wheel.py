"""The wheel that a sensor reads: how many slots, how many of them left out at the reference gap."""

from __future__ import annotations

import re
from dataclasses import dataclass

from sagen.model.errors import SheetError

MOST_SLOTS = 720


@dataclass(frozen=True, order=True)
class Wheel:
    """`slots` even places round the wheel, the last `missing` of them without a tooth."""

    slots: int
    missing: int = 0

    def __post_init__(self):
        if not (1 <= self.slots <= MOST_SLOTS and 0 <= self.missing < self.slots):
            raise SheetError(f"wheel '{self}': slots must be 1 to {MOST_SLOTS}, and fewer missing than there are slots")

    def __str__(self) -> str:
        return f"{self.slots}-{self.missing}" if self.missing else str(self.slots)

    @property
    def pitch_deg(self) -> float:
        """Degrees of the wheel's own shaft from one slot to the next."""
        return 360.0 / self.slots

    @classmethod
    def parse(cls, text: str) -> Wheel:
        """`"60-2"` or `"48"`.

        >>> Wheel.parse("36-1")
        Wheel(slots=36, missing=1)
        """
        match = re.fullmatch(r"\s*(\d{1,4})\s*(?:-\s*(\d{1,3}))?\s*", str(text))
        if not match:
            raise SheetError(f"wheel '{text}' is not of the form 60-2 (slots-missing) or 48 (even)")
        return cls(int(match[1]), int(match[2] or 0))
