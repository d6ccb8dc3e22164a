"""Kinds of sensor: a room each, behind one protocol. Nobody else compares kinds.

`kind_of("hall")` answers the kind; what differs from one kind to the next is asked of it. `examine` reads a capture,
`build` and `broken` make simulated machines.
"""

from sagen.kinds.examine import ChannelResult, Examination, Pair, Stopped, examine
from sagen.kinds.kind import KINDS, FormField, Kind, kind_of
from sagen.kinds.machines import broken, build

__all__ = [
    "KINDS", "ChannelResult", "Examination", "FormField", "Kind", "Pair", "Stopped", "broken", "build", "examine", "kind_of",
]  # fmt: skip
