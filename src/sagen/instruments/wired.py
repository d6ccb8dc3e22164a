"""What stands on the wire: a recorder, a meter and the modules, each opened by its address when it is asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from sagen.instruments.module_can import CanModules, open_bus
from sagen.instruments.module_stand_in import ModuleStandIn, code_of_circuit
from sagen.instruments.scpi import ScpiMeter, ScpiRecorder
from sagen.instruments.served import Bench, StandInServers
from sagen.machine.simulated import SimulatedMachine
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.vocabulary import State


@dataclass(frozen=True)
class Addresses:
    """Where instruments answer; "" for one that is not there. `bus` is INTERFACE:CHANNEL, as socketcan:can0."""

    recorder: str = ""
    meter: str = ""
    bus: str = ""


@dataclass
class Wired:
    """Instruments by address; `close` ends what stands in for them."""

    addresses: Addresses
    modules_of: Callable[[], CanModules] | None = None  #: a module that is no bus of this machine
    turn: Callable[[State], None] = lambda state: None  #: what stands in is brought into a state
    ends: list[Callable[[], None]] = field(default_factory=list)

    def recorder(
        self, state: State | None = None, rate: float | None = None, ranges: Mapping[str, float] | None = None
    ) -> ScpiRecorder:
        """The recorder, set for a state; raises SagenError."""
        if not self.addresses.recorder:
            raise SagenError(tr("no recorder is on the bench: state its address, as tcp://HOST:PORT"))
        return ScpiRecorder(self.addresses.recorder, rate=rate, state=state, ranges=ranges)

    def meter(self, rate: float | None = None) -> ScpiMeter:
        """The meter, at so many readings a second where it can be told; raises SagenError."""
        if not self.addresses.meter:
            raise SagenError(tr("no meter is on the bench: state its address, as tcp://HOST:PORT"))
        return ScpiMeter(self.addresses.meter, rate=rate)

    def modules(self, state: State | None = None) -> CanModules:
        """The modules that answer on the bus; raises SagenError."""
        if state is not None:
            self.turn(State(state))
        if self.modules_of is not None:
            return self.modules_of()
        interface, _, channel = self.addresses.bus.partition(":")
        if not interface or not channel:
            raise SagenError(tr("no module is on the bench: state the bus, as socketcan:can0"))
        return CanModules(open_bus(interface, channel))

    def close(self) -> None:
        for end in self.ends:
            end()
        self.ends.clear()


def wired_stand_in(machine: SimulatedMachine, *, faulty: bool = False, rate: float = 40_000.0) -> Wired:
    """One simulated machine behind all three, on 127.0.0.1 and a bus within the program. A `faulty` one has the code of its
    circuit stored."""
    servers = StandInServers(Bench(machine, rate))
    module = ModuleStandIn(machine, stays=(code_of_circuit(machine.spec),) if faulty else ())

    addresses = Addresses(*(f"tcp://127.0.0.1:{servers.serve(kind)}" for kind in ("recorder", "meter")))
    return Wired(addresses, module.connect, module.turn, [servers.close, module.close])
