"""What instruments are at hand: those whose addresses were stated, else the stand-in of the demo."""

from __future__ import annotations

from PySide6.QtWidgets import QLineEdit, QWidget

from sagen.desk.forms import Form
from sagen.desk.theme.plain import Label
from sagen.model.errors import SagenError
from sagen.model.job import Job

ADDRESSES = ("recorder", "meter", "bus")
NONE_AT_HAND = "No instrument is on the bench yet: state where one answers (Instruments)."


def wired_for(addresses: tuple[str, str, str], name: str, job: Job):
    """Instruments on the wire, which the asker closes; raises SagenError where there are none.

    Parameters
    ----------
    addresses : of recorder, meter and bus, "" where not stated
    name : of the set that stands in where none is stated, "" for none
    """
    from sagen.instruments import wired_called
    from sagen.instruments.wired import Addresses, Wired

    if any(addresses):
        return Wired(Addresses(*addresses))
    if name:
        return wired_called(name, job)
    raise SagenError(NONE_AT_HAND)


class InstrumentsForm(Form):
    """Where recorder, meter and module answer."""

    def __init__(self, addresses: tuple[str, str, str], parent: QWidget | None = None, *, stand_in: bool = False):
        super().__init__("Instruments", "Use these", parent)
        self.setMinimumWidth(520)
        where = "Left empty, the simulated stand-in of the demo answers." if stand_in else "Left empty: there is none."
        self.fields.addRow(Label(f"A line each, as it stands on the instrument. {where}", name="quiet", wrap=True))
        self.lines = []
        for words, hint, value in zip(
            ("Recorder", "Meter", "Module's bus"),
            ("tcp://192.168.0.20:5025", "tcp://192.168.0.21:5025 or serial:///dev/ttyUSB0", "socketcan:can0"),
            addresses,
            strict=True,
        ):
            line = self.add(words, QLineEdit(value))
            line.setPlaceholderText(hint)
            self.lines.append(line)
        self.fields.addRow(Label(PROFILES, name="small", wrap=True))

    def answer(self) -> tuple[str, str, str]:
        return tuple(line.text().strip() for line in self.lines)


PROFILES = "An instrument that Sagen does not know is described in a profile of a page: docs/INSTRUMENTS.md."
