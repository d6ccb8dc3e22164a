"""An engine's modules over CAN: ISO 15765-4 addressing, ISO 15765-2 transport (python-can, can-isotp)."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field

from sagen.instruments import obd
from sagen.instruments.protocols import LiveValue
from sagen.instruments.scpi import InstrumentGone
from sagen.model.errors import SagenError, unknown_name
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.vocabulary import CodeStatus

#: loaded when it is first asked; what it records buses with, and no verb does, takes longer than all the rest
can = lazy("can", without="asammdf")
isotp = lazy("isotp")

#: request and answer of each module, 11 bit and 29 bit (ISO 15765-4, from memory)
ELEVEN = tuple((0x7E0 + k, 0x7E8 + k) for k in range(8))
TWENTY_NINE = tuple((0x18DA00F1 | (target << 8), 0x18DAF100 | target) for target in (0x10, 0x18, 0x28, 0x40))
WAIT_S, BUSY_S, MOST_WAIT_S = 0.25, 0.1, 5.0
LONGEST_S = 10.0  #: all questions of one verb together, whatever a module asks time for
MOST_LEFT = (
    500  #: answers to earlier questions that are thrown away before the next; a module that floods the bus sends more
)


@dataclass(frozen=True)
class ModuleCodes:
    """What one module holds."""

    module: str
    codes: tuple[tuple[str, CodeStatus], ...] = ()
    frozen: dict[str, float] = field(default_factory=dict)  #: freeze frame


class CanModules:
    """All modules of an engine that answer on a bus."""

    def __init__(self, bus, *, wide: bool | None = None):
        self._bus, self._isotp = bus, isotp
        self._notifier = can.Notifier(bus, [], timeout=0.05)
        self.refused: dict[str, str] = {}
        self._until = math.inf
        self._given_up: set[str] = set()  #: asked for time again and again: not waited for any more in this verb
        pairs = [*(ELEVEN if wide is not True else ()), *(TWENTY_NINE if wide is not False else ())]
        self._stacks: dict[str, object] = {}
        for request, answer in pairs:
            mode = isotp.AddressingMode.Normal_29bits if request > 0x7FF else isotp.AddressingMode.Normal_11bits
            stack = isotp.NotifierBasedCanStack(
                bus,
                self._notifier,
                address=isotp.Address(mode, txid=request, rxid=answer),
                params={"tx_padding": 0, "rx_flowcontrol_timeout": 400, "rx_consecutive_frame_timeout": 400},
            )
            stack.start()
            self._stacks[f"{answer:X}"] = stack

    def close(self) -> None:
        for stack in self._stacks.values():
            with suppress(Exception):
                stack.stop()
        with suppress(Exception):
            self._notifier.stop(0.2)
        with suppress(Exception):
            self._bus.shutdown()

    @contextmanager
    def _at_most(self) -> Iterator[None]:
        """What is asked within has one time limit together."""
        self._until = time.monotonic() + LONGEST_S
        self._given_up.clear()
        try:
            yield
        finally:
            self._until = math.inf

    def _ask(self, data: bytes, only: set[str] | None = None) -> dict[str, bytes]:
        """Each module's answer to a question, or its refusal of it; raises InstrumentGone where none answers, SagenError where
        what comes answers something else."""
        strays: dict[str, bytes] = {}
        waiting = {name for name in self._stacks if name not in self._given_up and (only is None or name in only)}
        try:
            for name in waiting:
                for _ in range(MOST_LEFT):
                    if not self._stacks[name].available():
                        break
                    self._stacks[name].recv()
                self._stacks[name].send(data)
        except Exception as error:  # python-can's backends and the transport each have their own
            raise InstrumentGone(tr("the bus does not take the question ({error})", error=str(error)[:80])) from None
        answers: dict[str, bytes] = {}
        end, repeats, pleaded = time.monotonic() + WAIT_S, {}, set()
        last = min(time.monotonic() + MOST_WAIT_S, self._until)
        while time.monotonic() < min(end, last) and len(answers) < len(waiting):
            for name in waiting - set(answers):
                if not self._stacks[name].available():
                    continue
                answer = bytes(self._stacks[name].recv() or b"")
                if not obd.answers(answer, data):
                    strays[name] = answer
                elif answer[:1] == bytes([obd.NEGATIVE]) and len(answer) > 2 and answer[2] == obd.MORE_TIME:
                    pleaded.add(name)
                    end = time.monotonic() + 2.0
                elif (
                    answer[:1] == bytes([obd.NEGATIVE])
                    and len(answer) > 2
                    and answer[2] == obd.BUSY
                    and repeats.get(name, 0) < 5
                ):
                    repeats[name] = repeats.get(name, 0) + 1
                    time.sleep(BUSY_S)
                    self._stacks[name].send(data)
                    end = time.monotonic() + WAIT_S
                else:
                    answers[name] = answer
            time.sleep(0.002)
        self._given_up |= pleaded - set(answers)
        if not answers and strays:
            raise SagenError(tr("module {strays}: its answer is to another question", strays=next(iter(strays))))
        if not answers:
            raise InstrumentGone(tr("no module answers: is the key on, and the plug seated?"))
        return answers

    def modules(self) -> tuple[str, ...]:
        """The names of the modules that answer."""
        with self._at_most():
            return tuple(sorted(self._ask(bytes([obd.LIVE, 0x00]))))

    def codes(self) -> tuple[ModuleCodes, ...]:
        """The codes of every module, stored, pending and permanent, with its freeze frame; what is refused stands in
        `refused`. Raises InstrumentGone."""
        found: dict[str, list] = {}
        self.refused = {}
        with self._at_most():
            for status, service in obd.SERVICE_OF.items():
                try:
                    answers = self._ask(bytes([service]))
                except SagenError as error:
                    if not found:
                        raise
                    self.refused |= {f"{name}, {status}": str(error) for name in found}
                    continue
                for name, answer in answers.items():
                    listed = found.setdefault(name, [])
                    # One module that makes no sense does not hide what the others hold.
                    try:
                        why = obd.refusal(answer)
                        listed.extend((code, status) for code in (() if why else obd.read_codes(answer)))
                    except SagenError as error:
                        why = str(error)
                    if why:
                        self.refused[f"{name}, {status}"] = why
            self.refused |= dict.fromkeys(self._given_up, tr("it asks for more time without end"))
            return tuple(
                ModuleCodes(name, tuple(codes), self._frozen(name) if codes else {})
                for name, codes in sorted(found.items())
            )

    def _frozen(self, name: str) -> dict[str, float]:
        out = {}
        for item in obd.ITEMS.values():
            with suppress(SagenError):
                answer = self._ask(bytes([obd.FROZEN, item.pid, 0x00]), {name})[name]
                if not obd.refusal(answer):
                    out[item.name] = obd.read_live(answer, item)
        return out

    def about(self) -> dict[str, str]:
        """What modules call themselves, by module, and the vehicle's number behind it; those that say nothing are left out."""
        told: dict[str, list[str]] = {}
        with self._at_most():
            for item in (obd.NAME_OF_MODULE, obd.NUMBER_OF_VEHICLE):
                with suppress(SagenError):
                    for name, answer in self._ask(bytes([obd.ABOUT, item[0]])).items():
                        with suppress(SagenError):
                            told.setdefault(name, []).append(obd.read_about(answer, item))
        return {name: ", ".join(text for text in texts if text) for name, texts in told.items() if any(texts)}

    def clear(self) -> tuple[str, ...]:
        """Clear the codes of every module; answers which did. Raises SagenError where one refuses."""
        with self._at_most():
            answers = self._ask(bytes([obd.CLEAR]))
        refused = {name: obd.refusal(answer) for name, answer in answers.items() if obd.refusal(answer)}
        if refused:
            name, why = next(iter(refused.items()))
            raise SagenError(tr("module {name} did not clear: {why}", name=name, why=why))
        return tuple(sorted(answers))

    def live(self, name: str) -> LiveValue:
        """A live value of the first module that has it: rpm, speed, coolant, intake."""
        if name not in obd.ITEMS:
            raise SagenError(unknown_name(tr("live value"), name, obd.ITEMS))
        item, why = obd.ITEMS[name], ""
        with self._at_most():
            answers = self._ask(bytes([obd.LIVE, item.pid]))
        for answer in answers.values():
            why = obd.refusal(answer)
            if not why:
                return LiveValue(name, obd.read_live(answer, item), item.unit)
        raise SagenError(f"{name}: {why}")


def open_bus(interface: str, channel: str):
    """A CAN bus; raises SagenError in words."""
    try:
        return can.Bus(interface=interface, channel=channel, bitrate=500_000, receive_own_messages=False)
    except Exception as error:  # each backend has its own
        text = str(error).splitlines()[0] if str(error) else type(error).__name__
        raise SagenError(
            tr(
                "the bus {interface} {channel} cannot be opened: {text}",
                interface=interface,
                channel=channel,
                text=text[:100],
            )
        ) from None
