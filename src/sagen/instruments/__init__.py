"""Anything that measures for Sagen: a recorder, a meter, a module, behind three small protocols.

`register_instruments` adds a set of them by name, `instruments_called` makes it for a job. What ships is the stand-in,
a simulated machine behind all three.
"""

from sagen.instruments.protocols import Block, Instruments, LiveValue, Meter, MeterValue, Module, Recorder
from sagen.instruments.registry import (
    all_instruments,
    instruments_called,
    register_instruments,
    register_wired,
    wired_called,
)

__all__ = [
    "Block", "Instruments", "LiveValue", "Meter", "MeterValue", "Module", "Recorder", "all_instruments",
    "instruments_called", "register_instruments", "register_wired", "wired_called",
]  # fmt: skip
