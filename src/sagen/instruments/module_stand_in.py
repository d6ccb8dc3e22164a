"""The module's stand-in: the simulated machine's own codes and values on python-can's virtual bus."""

from __future__ import annotations

import itertools
import threading
import time
from contextlib import suppress
from dataclasses import dataclass, field

from sagen.instruments import obd
from sagen.instruments.module_can import ELEVEN, CanModules
from sagen.instruments.stand_in import shown_rpm
from sagen.machine.simulated import SimulatedMachine
from sagen.model.circuit import CircuitSpec
from sagen.model.lazy import lazy
from sagen.model.vocabulary import CodeStatus, Position, Role, State

#: loaded when it is first asked; what it records buses with, and no verb does, takes longer than all the rest
can = lazy("can", without="asammdf")
isotp = lazy("isotp")

_CHANNELS = itertools.count(1)
#: the generic code of a circuit that gives no usable signal, by role and bank (SAE J2012, from memory)
CODE_OF = {
    (Role.CRANK, None): "P0335",
    (Role.CAM, 1): "P0340",
    (Role.CAM, 2): "P0345",
    (Role.KNOCK, 1): "P0325",
    (Role.KNOCK, 2): "P0330",
    (Role.SPEED, None): "P0500",
}
MISBEHAVIOURS = ("busy", "pending", "refuse", "silent", "cut")


def code_of_circuit(spec: CircuitSpec) -> str:
    """The code that a module sets of a circuit that gives no usable signal."""
    code = CODE_OF.get((spec.role, spec.bank or 1)) or CODE_OF.get((spec.role, None), "P0335")
    if spec.role == Role.CAM and spec.position == Position.EXHAUST:
        return {"P0340": "P0365", "P0345": "P0390"}[code]
    return code


@dataclass
class ModuleStandIn:
    """Answers like an engine's module, until `close`."""

    machine: SimulatedMachine
    state: State = State.KEY_ON
    misbehave: frozenset[str] = frozenset()
    stays: tuple[str, ...] = ()  #: codes of a fault that is there: seen again at once after clearing
    stored: list[str] = field(default_factory=list)
    more: tuple[tuple[int, tuple[str, ...]], ...] = ()  #: further modules by their number, with their codes

    def __post_init__(self):
        self.channel = f"sagen-{next(_CHANNELS)}-{id(self):x}"
        self.stored = [*self.stays, *(item for item in self.stored if item not in self.stays)]
        self.asked = 0
        self._rpm: float | None = None
        self._bus = can.Bus(interface="virtual", channel=self.channel, receive_own_messages=False)
        self._notifier = can.Notifier(self._bus, [], timeout=0.05)
        self._stacks = []
        for number, codes in ((0, None), *self.more):
            request, answer = ELEVEN[number]
            stack = isotp.NotifierBasedCanStack(
                self._bus,
                self._notifier,
                address=isotp.Address(isotp.AddressingMode.Normal_11bits, txid=answer, rxid=request),
                params={"tx_padding": 0, "blocking_send": False},
            )
            stack.start()
            self._stacks.append((stack, codes))
        self._going = True
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def connect(self) -> CanModules:
        """The tester's side of the bus."""
        return CanModules(can.Bus(interface="virtual", channel=self.channel, receive_own_messages=False), wide=False)

    def turn(self, state: State) -> None:
        """Bring the machine into a state: cranking, running, key on."""
        self.state, self._rpm = state, None

    def close(self) -> None:
        self._going = False
        self._thread.join(1.0)
        for item, _ in self._stacks:
            with suppress(Exception):
                item.stop()
        with suppress(Exception):
            self._notifier.stop(0.2)
        with suppress(Exception):
            self._bus.shutdown()

    def _serve(self) -> None:
        while self._going:
            idle = True
            for stack, codes in self._stacks:
                if stack.available():
                    idle = False
                    question = bytes(stack.recv() or b"")
                    for answer in self._answers(question, codes):
                        stack.send(answer)
            if idle:
                time.sleep(0.002)

    def _answers(self, question: bytes, codes: tuple[str, ...] | None) -> list[bytes]:
        """What goes back for a question; several where more time is asked for first."""
        if not question or "silent" in self.misbehave:
            return []
        self.asked += 1
        service = question[0]
        if "refuse" in self.misbehave:
            return [bytes([obd.NEGATIVE, service, 0x11])]
        if "busy" in self.misbehave and self.asked % 2:
            return [bytes([obd.NEGATIVE, service, obd.BUSY])]
        first = [bytes([obd.NEGATIVE, service, obd.MORE_TIME])] if "pending" in self.misbehave else []
        answer = self._answer(service, question, self.stored if codes is None else list(codes))
        if "cut" in self.misbehave and len(answer) > 3:
            answer = answer[:3]
        return [*first, answer]

    def _answer(self, service: int, question: bytes, codes: list[str]) -> bytes:
        listed = {obd.CODES_STORED: codes, obd.CODES_PENDING: codes[:1], obd.CODES_PERMANENT: []}
        if service in listed:
            return obd.codes_answer(service, tuple(listed[service]))
        if service == obd.CLEAR:
            self.stored.clear()
            self.stored += self.stays
            return bytes([obd.CLEAR + obd.POSITIVE])
        if service == obd.ABOUT and len(question) > 1:
            for item, text in ((obd.NAME_OF_MODULE, "ECM-StandIn"), (obd.NUMBER_OF_VEHICLE, "STANDIN0000000001")):
                if question[1] == item[0]:
                    return obd.about_answer(item, text)
        if service in (obd.LIVE, obd.FROZEN) and len(question) > 1:
            item = obd.BY_PID.get(question[1])
            if question[1] == 0x00:
                return bytes([service + obd.POSITIVE, 0x00, 0x08, 0x1A, 0x00, 0x00])
            if item is not None:
                frame = question[2:3] if service == obd.FROZEN else b""
                return bytes([service + obd.POSITIVE, item.pid]) + frame + item.write(self._value(item.name))
        return bytes([obd.NEGATIVE, service, 0x12 if service in (obd.LIVE, obd.FROZEN, obd.ABOUT) else 0x11])

    def _value(self, name: str) -> float:
        if name == "rpm":
            if self._rpm is None:
                turning = self.state if self.state in (State.CRANKING, State.RUNNING) else None
                self._rpm = shown_rpm(self.machine, turning) if turning else 0.0
            return self._rpm
        return {"speed": 0.0, "coolant": 64.0, "intake": 27.0}[name]


__all__ = ["MISBEHAVIOURS", "CodeStatus", "ModuleStandIn", "code_of_circuit"]
