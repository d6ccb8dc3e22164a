"""Modules on the bus that lie: garbage, other services, cut lists, multi-frame answers that never end or come in another order,
endless pleas for more time, floods. Each question ends within its time, in an answer or a sentence, and a sound module beside is
heard all the same. `./run hostile` runs the long one."""

import argparse
import sys
import threading
import time
from dataclasses import dataclass, field

import numpy as np

from sagen.instruments import obd
from sagen.instruments.module_can import ELEVEN, LONGEST_S, CanModules, can
from sagen.model.errors import SagenError

SOUND = 2  #: the number of the module that tells the truth
CODES = ("P0335", "P0341")


def _frames(data: bytes) -> list[bytes]:
    """An answer in frames of its own making (ISO 15765-2: single, or first and consecutive; from memory)."""
    if len(data) < 8:
        return [bytes([len(data), *data])]
    out = [bytes([0x10 | len(data) >> 8, len(data) & 0xFF, *data[:6]])]
    return out + [bytes([0x20 | (k + 1) % 16, *data[6 + 7 * k : 13 + 7 * k]]) for k in range((len(data) + 0) // 7)]


def lie(kind: str, question: bytes, rng: np.random.Generator) -> list[bytes]:
    """The frames that a lying module answers a question with."""
    service = question[0] if question else 0
    noise = bytes(rng.integers(0, 256, int(rng.integers(1, 9))).astype(np.uint8))
    long = _frames(bytes([service + obd.POSITIVE, 40]) + bytes(80))
    return {
        "garbage": [noise],
        "another service": _frames(bytes([(service + 1) % 256 + obd.POSITIVE if service < 190 else 0, 2, 3, 53])),
        "another number": _frames(bytes([service + obd.POSITIVE, 0xEE, 1, 2])),
        "cut": _frames(bytes([service + obd.POSITIVE, 200, 3])),
        "first frame only": [b"\x1f\xff" + noise[:6].ljust(6, b"\0")],
        "no first frame": long[1:],
        "out of order": long[:1] + long[:0:-1],
        "twice": long + long,
        "more time": _frames(bytes([obd.NEGATIVE, service, obd.MORE_TIME])),
        "busy": _frames(bytes([obd.NEGATIVE, service, obd.BUSY])),
        "flow control": [b"\x32\xff\xff", b"\x30\x00\x7f"],
        "flood": [noise.ljust(8, b"\1")] * 400,
        "flood of answers": _frames(bytes([service + obd.POSITIVE, 0])) * 300,
        "empty": [b""],
        "nothing": [],
    }[kind]


KINDS = ("garbage", "another service", "another number", "cut", "first frame only", "no first frame", "out of order", "twice",
         "more time", "busy", "flow control", "flood", "flood of answers", "empty", "nothing")  # fmt: skip


class Liars:
    """A bus with a lying module and a sound one."""

    def __init__(self, kind: str, seed: int):
        self.kind, self.rng = kind, np.random.default_rng(seed)
        self.channel = f"liars-{seed}-{kind}"
        self.bus = can.Bus(interface="virtual", channel=self.channel, receive_own_messages=False)
        self.going = True
        self.thread = threading.Thread(target=self._serve, daemon=True)
        self.thread.start()

    def _send(self, answer: int, data: bytes) -> None:
        self.bus.send(can.Message(arbitration_id=answer, data=data[:8], is_extended_id=False))

    def _serve(self) -> None:
        pleas = 0.0
        asked = b""
        while self.going:
            message = self.bus.recv(0.02)
            if self.kind == "more time" and asked and time.monotonic() > pleas:  # again and again
                pleas = time.monotonic() + 0.5
                for frame in lie("more time", asked, self.rng):
                    self._send(ELEVEN[0][1], frame)
            if message is None or not message.data or message.data[0] >> 4:
                continue
            question = bytes(message.data[1 : 1 + message.data[0]])
            if message.arbitration_id == ELEVEN[0][0]:
                asked = question
                for frame in lie(self.kind, question, self.rng):
                    self._send(ELEVEN[0][1], frame)
            elif message.arbitration_id == ELEVEN[SOUND][0] and question:
                for frame in _frames(self._truth(question)):
                    self._send(ELEVEN[SOUND][1], frame)

    def _truth(self, question: bytes) -> bytes:
        service = question[0]
        if service in obd.SERVICE_OF.values():
            return obd.codes_answer(service, CODES if service == obd.CODES_STORED else ())
        if service == obd.CLEAR:
            return bytes([service + obd.POSITIVE])
        if service == obd.LIVE and question[1:] == b"\x0c":
            return bytes([service + obd.POSITIVE, 0x0C, 0x1A, 0xF8])
        return bytes([obd.NEGATIVE, service, 0x12])

    def close(self) -> None:
        self.going = False
        self.thread.join(1.0)
        self.bus.shutdown()


@dataclass
class Lies:
    """What so many lies came to."""

    asked: int = 0
    worst_s: float = 0.0
    wrong: list[str] = field(default_factory=list)


def rounds(count: int, seed: int, kinds: tuple[str, ...] = KINDS) -> Lies:
    """So many rounds of every kind of lie."""
    found = Lies()
    for at in range(count):
        for kind in kinds:
            liars = Liars(kind, seed + at)
            modules = CanModules(
                can.Bus(interface="virtual", channel=liars.channel, receive_own_messages=False), wide=False
            )
            try:
                for name, ask in (
                    ("codes", modules.codes), ("live", lambda m=modules: m.live("rpm")), ("about", modules.about),
                    ("modules", modules.modules), ("clear", modules.clear),
                ):  # fmt: skip
                    began, told = time.monotonic(), None
                    try:
                        told = ask()
                    except SagenError as error:
                        if "\n" in str(error):
                            found.wrong.append(f"{kind}, {name}: {error!r}")
                    except Exception as error:
                        found.wrong.append(f"{kind}, {name}: {error!r}")
                    found.asked += 1
                    took = time.monotonic() - began
                    found.worst_s = max(found.worst_s, took)
                    if took > LONGEST_S + 1.0:
                        found.wrong.append(f"{kind}, {name}: {took:.1f} s")
                    if name == "codes":
                        heard = {item.module: tuple(code for code, _ in item.codes) for item in told or ()}
                        if heard.get(f"{ELEVEN[SOUND][1]:X}") != CODES:
                            found.wrong.append(f"{kind}: the sound module's codes are {heard}")
                    if (
                        name == "clear"
                        and kind in ("another service", "garbage")
                        and f"{ELEVEN[0][1]:X}" in (told or ())
                    ):
                        found.wrong.append(f"{kind}: said to have cleared")
            finally:
                modules.close()
                liars.close()
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=40)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    arguments = parser.parse_args()
    found = rounds(arguments.rounds, arguments.seed)
    print(found)
    return len(found.wrong)


if __name__ == "__main__":
    sys.exit(main())
