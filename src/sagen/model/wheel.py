"""The wheel that a sensor reads: how many slots, how many of them left out at the reference gap."""

from __future__ import annotations

import re
from dataclasses import dataclass

from sagen.model.errors import SheetError
from sagen.model.language import tr

MOST_SLOTS = 720


@dataclass(frozen=True, order=True)
class Wheel:
    """`slots` even places round the wheel, the last `missing` of them without a tooth: the reference gap.

    `others` are the numbers of further slots that are left out by design, where a wheel has several gaps.
    """

    slots: int
    missing: int = 0
    others: tuple[int, ...] = ()

    def __post_init__(self):
        if not (1 <= self.slots <= MOST_SLOTS and 0 <= self.missing < self.slots):
            raise SheetError(
                tr(
                    "wheel '{self_}': slots must be 1 to {most_slots}, and fewer missing than there are slots",
                    self_=self,
                    most_slots=MOST_SLOTS,
                )
            )
        if any(not 1 <= other <= self.slots - self.missing for other in self.others):
            raise SheetError(
                tr(
                    "wheel '{self_}': a slot left out must have a number from 1 to {slots}",
                    self_=self,
                    slots=self.slots,
                )
            )

    def __str__(self) -> str:
        if self.others:
            last = range(self.slots - self.missing + 1, self.slots + 1)
            return f"{self.slots}: {', '.join(str(other) for other in (*self.others, *last))}"
        return f"{self.slots}-{self.missing}" if self.missing else str(self.slots)

    @property
    def gone(self) -> frozenset[int]:
        """The numbers of the slots that are left out, those of the reference gap among them."""
        return frozenset({*self.others, *range(self.slots - self.missing + 1, self.slots + 1)})

    @property
    def teeth(self) -> int:
        """How many teeth it has."""
        return self.slots - self.missing - len(self.others)

    @property
    def pitch_deg(self) -> float:
        """Degrees of the wheel's own shaft from one slot to the next."""
        return 360.0 / self.slots

    @classmethod
    def parse(cls, text: str) -> Wheel:
        """`"60-2"`, `"48"`, or, with several gaps, `"36: 17-18, 35-36"`: the slots left out, the last of them
        the reference gap at the end of the turn.

        >>> Wheel.parse("36-1")
        Wheel(slots=36, missing=1, others=())
        >>> Wheel.parse("36: 17-18, 35-36")
        Wheel(slots=36, missing=2, others=(17, 18))
        """
        match = re.fullmatch(r"\s*(\d{1,4})\s*(?:-\s*(\d{1,3}))?\s*", str(text))
        if match:
            return cls(int(match[1]), int(match[2] or 0))
        match = re.fullmatch(r"\s*(\d{1,4})\s*:((?:\s*\d{1,4}(?:\s*-\s*\d{1,4})?\s*,?)+)", str(text))
        if not match:
            raise SheetError(
                tr(
                    "wheel '{text}' is not of the form 60-2 (slots-missing), 48 (even) or 36: 17-18, 35-36 (slots: "
                    "left out)",
                    text=text,
                )
            )
        slots, absent = int(match[1]), set()
        for first, last in re.findall(r"(\d+)(?:\s*-\s*(\d+))?", match[2]):
            absent |= set(range(int(first), min(int(last or first), MOST_SLOTS) + 1))
        missing = 0
        while slots - missing in absent:
            missing += 1
        if not missing:
            raise SheetError(
                tr(
                    "wheel '{text}': the last slot must be left out; count from the first tooth behind the reference "
                    "gap",
                    text=text,
                )
            )
        return cls(slots, missing, tuple(sorted(item for item in absent if item <= slots - missing or item > slots)))
