"""What an engine's module says and is asked, as bytes: services 01, 02, 03, 04, 07, 09 and 0A (SAE J1979, from memory).

Nothing here touches a bus: `module_can.py` carries these bytes, `module_stand_in.py` answers them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.vocabulary import CodeStatus

#: services by number: what they ask
CODES_STORED, CODES_PENDING, CODES_PERMANENT, CLEAR, LIVE, FROZEN, ABOUT = 0x03, 0x07, 0x0A, 0x04, 0x01, 0x02, 0x09
SERVICE_OF = {CodeStatus.STORED: CODES_STORED, CodeStatus.PENDING: CODES_PENDING, CodeStatus.PERMANENT: CODES_PERMANENT}
POSITIVE, NEGATIVE = 0x40, 0x7F
#: negative answers (ISO 14229-1, from memory) in words
REFUSED = {
    0x10: tr("it refuses, without saying why"), 0x11: tr("it does not have this service"), 0x12: tr("it does not have this part of it"),
    0x13: tr("the question has the wrong length"), 0x21: tr("it is busy: ask again"), 0x22: tr("not now: ignition and engine as the manual says"),
    0x31: tr("it does not have that value"), 0x33: tr("it is locked"), 0x78: tr("it needs more time"),
}  # fmt: skip
BUSY, MORE_TIME = 0x21, 0x78


@dataclass(frozen=True)
class LiveItem:
    """One value that a module shows: its number, unit, and how its bytes are read."""

    name: str
    pid: int
    length: int
    unit: str
    read: Callable[[bytes], float]
    write: Callable[[float], bytes]


def _two(value: float) -> bytes:
    return int(max(0, min(value, 65_535))).to_bytes(2, "big")


def _one(value: float) -> bytes:
    return bytes([int(max(0, min(round(value), 255)))])


#: the values that are asked for
ITEMS = {
    each.name: each
    for each in (
        LiveItem("rpm", 0x0C, 2, "rpm", lambda b: (256 * b[0] + b[1]) / 4, lambda v: _two(4 * v)),
        LiveItem("speed", 0x0D, 1, "km/h", lambda b: float(b[0]), _one),
        LiveItem("coolant", 0x05, 1, "degC", lambda b: b[0] - 40.0, lambda v: _one(v + 40)),
        LiveItem("intake", 0x0F, 1, "degC", lambda b: b[0] - 40.0, lambda v: _one(v + 40)),
    )
}  # fmt: skip
BY_PID = {this_item.pid: this_item for this_item in ITEMS.values()}


def code_of(two: bytes) -> str:
    """A code from its two bytes (SAE J2012: letter in two bits, first digit in two, three more digits).

    >>> code_of(bytes([0x03, 0x35])), code_of(bytes([0xC1, 0x00]))
    ('P0335', 'U0100')
    """
    first, second = two
    return f"{'PCBU'[first >> 6]}{(first >> 4) & 3}{first & 15:X}{second:02X}"


def bytes_of(code: str) -> bytes:
    """The two bytes of a code; raises SagenError for what is none."""
    text = code.strip().upper()
    try:
        if len(text) != 5 or text[0] not in "PCBU" or text[1] not in "0123":
            raise ValueError
        return bytes([("PCBU".index(text[0]) << 6) | (int(text[1]) << 4) | int(text[2], 16), int(text[3:], 16)])
    except ValueError:
        raise SagenError(tr("'{code}' is no code that a module can hold", code=code[:20])) from None


def read_codes(answer: bytes) -> tuple[str, ...]:
    """The codes of an answer to services 03, 07 or 0A; raises SagenError for one that makes no sense."""
    if len(answer) < 2:
        raise SagenError(tr("the module's list of codes is cut off"))
    count, rest = answer[1], answer[2:]
    if len(rest) < 2 * count:
        raise SagenError(tr("the module says {count} codes and sends {rest}", count=count, rest=len(rest) // 2))
    return tuple(code_of(rest[2 * k : 2 * k + 2]) for k in range(count) if rest[2 * k : 2 * k + 2] != b"\x00\x00")


def codes_answer(service: int, codes: tuple[str, ...]) -> bytes:
    """An answer that lists codes."""
    return bytes([service + POSITIVE, len(codes)]) + b"".join(bytes_of(code) for code in codes)


def read_live(answer: bytes, item: LiveItem) -> float:
    """A live value of an answer to service 01, or of a freeze frame's to 02; raises SagenError."""
    skip = 3 if answer[:1] == bytes([FROZEN + POSITIVE]) else 2
    if len(answer) < skip + item.length or answer[1] != item.pid:
        raise SagenError(tr("the module's answer for {name} makes no sense", name=item.name))
    return item.read(answer[skip : skip + item.length])


#: what a module says of itself: its number, length in bytes
NUMBER_OF_VEHICLE, NAME_OF_MODULE = (0x02, 17), (0x0A, 20)


def read_about(answer: bytes, item: tuple[int, int]) -> str:
    """A text of an answer to service 09: service, number, count of items, letters padded with zeros; raises SagenError."""
    number, length = item
    if len(answer) < 3 or answer[:2] != bytes([ABOUT + POSITIVE, number]):
        raise SagenError(tr("what the module says of itself makes no sense"))
    text = bytes(each for each in answer[3 : 3 + length] if 32 <= each < 127)
    return text.decode("ascii").strip()


def about_answer(item: tuple[int, int], text: str) -> bytes:
    """An answer to service 09 with one text."""
    number, length = item
    letters = text.encode("ascii", "replace")[:length]
    padded = letters.rjust(length, b"\0") if item == NUMBER_OF_VEHICLE else letters.ljust(length, b"\0")
    return bytes([ABOUT + POSITIVE, number, 1]) + padded


def answers(answer: bytes, question: bytes) -> bool:
    """Whether an answer is to that question: the service is named in both, a live value's number, too (SAE J1979, from memory)."""
    service = question[0]
    if answer[:1] == bytes([NEGATIVE]):
        return answer[1:2] == bytes([service])
    with_number = service in (LIVE, FROZEN, ABOUT)
    return answer[:1] == bytes([service + POSITIVE]) and (not with_number or answer[1:2] == question[1:2])


def refusal(answer: bytes) -> str:
    """A negative answer in words; "" for a positive one."""
    if answer[:1] != bytes([NEGATIVE]):
        return ""
    code = answer[2] if len(answer) > 2 else 0x10
    return REFUSED.get(code, tr("it refuses (0x{code:02X})", code=code))
