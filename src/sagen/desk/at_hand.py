"""What instruments are at hand: those whose addresses were stated, else the stand-in of the demo."""

from __future__ import annotations

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QLineEdit, QWidget

from sagen.desk.forms.base import Form
from sagen.desk.theme.plain import Label
from sagen.instruments import instruments_called, wired_called
from sagen.instruments.protocols import Instruments
from sagen.instruments.wired import Addresses, Wired
from sagen.model.errors import SagenError
from sagen.model.job import Job
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.practice import practice_of

#: loaded when a practice job is first measured
practice_job = lazy("sagen.casework.practice_job")

#: by address its name in words, and how one is written
ADDRESSES = {
    "recorder": (tr("Recorder"), "tcp://192.168.0.20:5025"),
    "meter": (tr("Meter"), tr("tcp://192.168.0.21:5025 or serial:///dev/ttyUSB0")),
    "bus": (tr("Module's bus"), "socketcan:can0"),
}
NONE_AT_HAND = tr("No instrument is on the bench yet: state where one answers (Instruments).")


class BenchInstruments:
    """The instruments of this bay.

    Parameters
    ----------
    stand_in : str
        the name of the set that stands in where no address is stated; "" for none
    """

    def __init__(self, settings: QSettings, stand_in: str = ""):
        self._settings, self.stand_in = settings, stand_in

    @property
    def addresses(self) -> Addresses:
        """Where recorder, meter and bus answer, as stated; "" for one that was not."""
        return Addresses(*(str(self._settings.value(f"bench/{name}", "")).strip() for name in ADDRESSES))

    @addresses.setter
    def addresses(self, addresses: Addresses) -> None:
        for name in ADDRESSES:
            self._settings.setValue(f"bench/{name}", getattr(addresses, name))

    @property
    def stated(self) -> bool:
        """Whether any address was stated."""
        return any(getattr(self.addresses, name) for name in ADDRESSES)

    def wired(self, job: Job) -> Wired:
        """What stands on the wire for a job, which the asker closes; may be called from any thread.

        Raises
        ------
        SagenError
            where there is nothing.
        """
        if practice_of(job.records()):
            return practice_job.wired_to(job)
        if self.stated:
            return Wired(self.addresses)
        if self.stand_in:
            return wired_called(self.stand_in, job)
        raise SagenError(NONE_AT_HAND)

    def stand_in_for(self, job: Job) -> Instruments:
        """The stand-in's own instruments, not over a wire; raises SagenError where there is none."""
        return practice_job.stand_in(job) if practice_of(job.records()) else instruments_called(self.stand_in, job)

    def stands_in(self, job: Job | None) -> bool:
        """Whether a stand-in answers for a job without a wire."""
        return bool(self.stand_in) or (job is not None and practice_of(job.records()) is not None)


class InstrumentsForm(Form):
    """Where recorder, meter and module answer."""

    def __init__(self, addresses: Addresses, parent: QWidget | None = None, *, stand_in: bool = False):
        super().__init__(tr("Instruments"), tr("Use these"), parent)
        self.setMinimumWidth(660)
        where = (
            tr("Left empty, the simulated stand-in of the demo answers.")
            if stand_in
            else tr("Left empty: there is none.")
        )
        self.fields.addRow(
            Label(tr("A line each, as it stands on the instrument. {where}", where=where), name="quiet", wrap=True)
        )
        self.lines = []
        for name, (words, hint) in ADDRESSES.items():
            line = self.add(words, QLineEdit(getattr(addresses, name)))
            line.setPlaceholderText(hint)
            self.lines.append(line)
        self.fields.addRow(Label(PROFILES, name="small", wrap=True))

    def answer(self) -> Addresses:
        return Addresses(*(line.text().strip() for line in self.lines))


PROFILES = tr("An instrument that Sagen does not know is described in a profile of a page: docs/INSTRUMENTS.md.")
