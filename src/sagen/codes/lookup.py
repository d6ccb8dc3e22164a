"""From a code to what it means: which circuit, which kind of failure, what that makes likely."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from sagen.model.errors import KnowledgeError, SagenError
from sagen.model.language import tr
from sagen.model.vocabulary import CodeKind, Position, Role, SensorKind, word

#: each kind of failure as it is chosen by hand
CODE_KINDS = {
    CodeKind.CIRCUIT: tr("No usable signal"), CodeKind.RANGE: tr("Pulses not as expected"), CodeKind.LOW: tr("Signal too low"),
    CodeKind.HIGH: tr("Signal too high"), CodeKind.INTERMITTENT: tr("Comes and goes"),
    CodeKind.CORRELATION: tr("Cam and crank disagree"), CodeKind.FEED: tr("5 V out of range"),
    CodeKind.PHASER: tr("Cam not where it was sent"), CodeKind.VOLTAGE: tr("System voltage"),
    CodeKind.POWER: tr("Module's own supply"), CodeKind.STARTER: tr("Starter circuit"), CodeKind.MODULE: tr("Module itself"),
    CodeKind.RELEARN: tr("Wheel not learned"),
}  # fmt: skip
#: each kind of failure in words, and what it makes likely
KINDS = {
    CodeKind.CIRCUIT: (tr("no usable signal"), tr("sensor, its wires, its feed or its return")),
    CodeKind.RANGE: (
        tr("range or performance: pulses come, but not as expected"),
        tr("wheel, air gap, disturbance, or timing parts"),
    ),
    CodeKind.LOW: (tr("signal too low"), tr("signal wire at ground, or a sensor that holds it down")),
    CodeKind.HIGH: (tr("signal too high"), tr("open return, open signal wire, or a dead output")),
    CodeKind.INTERMITTENT: (
        tr("comes and goes"),
        tr("a plug, a wire that moves, a loose sensor, or one that stops when warm"),
    ),
    CodeKind.CORRELATION: (tr("cam and crank do not agree"), tr("belt, chain, tensioner or phaser before any sensor")),
    CodeKind.FEED: (tr("the shared 5 V is out of range"), tr("any sensor or wire on that feed")),
    CodeKind.PHASER: (tr("the cam is not where it was sent"), tr("oil, valve, phaser or chain before any sensor")),
    CodeKind.VOLTAGE: (tr("the system voltage is out of range"), tr("battery, charging, main ground")),
    CodeKind.POWER: (tr("the module's own supply fails"), tr("main relay, its fuse and contact, the module's ground")),
    CodeKind.STARTER: (tr("the starter's circuit fails"), tr("starter relay, battery, the starter itself")),
    CodeKind.MODULE: (tr("the module finds fault with itself"), tr("its feeds and grounds before the module")),
    CodeKind.RELEARN: (tr("the wheel is not learned"), tr("a relearn that is owed, not a part")),
}


@dataclass(frozen=True)
class CodeMeaning:
    """A generic code. `bank` and `position` are None where the code does not tell them."""

    code: str
    kind: CodeKind
    role: Role
    name: str
    bank: int | None = None
    position: Position | None = None
    sensor: str = ""
    usual: SensorKind | None = None  #: the kind of sensor that such a circuit usually has

    @property
    def text(self) -> str:
        return f"{tr(self.name)}: {KINDS[self.kind][0]}"

    @property
    def makes_likely(self) -> str:
        return KINDS[self.kind][1]


def parse_code(text: str) -> str:
    """A code in its usual form, "P0335"; raises SagenError for what cannot be one."""
    clean = text.strip().upper().replace(" ", "")
    if match := re.fullmatch(r"([PCBU][0-9A-F]{4})(?:[-:][0-9A-F]{2})?", clean):
        return match[1]  # what follows the dash is the failure's type, or how often it came
    if re.fullmatch(r"[0-9]{3,4}", clean):
        return "P" + clean.zfill(4)
    if re.fullmatch(r"[0-9]{5}", clean):
        return _five_digits(int(clean))
    raise SagenError(
        tr("'{text}' is not a trouble code: a letter P, C, B or U and four digits, such as P0335", text=text)
    )


#: a maker's five digits are the generic number counted on from here (common practice, no published source)
FIVE_DIGITS = ((16_384, 0, 1000), (16_408, 1000, 2000))


def _five_digits(number: int) -> str:
    """A code that a maker's tool shows as five digits; one that is no generic code stays as it is."""
    for start, low, high in FIVE_DIGITS:
        if low <= number - start < high:
            return f"P{number - start:04d}"
    return f"{number:05d}"


@cache
def table() -> dict[str, CodeMeaning]:
    """All generic codes known, by code."""
    data = tomllib.loads(files("sagen.codes").joinpath("codes.toml").read_text(encoding="utf-8"))
    found: dict[str, CodeMeaning] = {}
    for family in data["family"]:
        first = int(family["first"][1:])
        shared = {key: family[key] for key in ("role", "name", "bank", "position", "sensor", "usual") if key in family}
        for step, kind in enumerate(family["kinds"]):
            code = f"P{first + step:04d}"
            found[code] = _meaning(code=code, kind=kind, **shared)
    for row in data["single"]:
        found[row["code"]] = _meaning(**row)
    return found


def _meaning(*, kind: str, role: str, position: str | None = None, **rest) -> CodeMeaning:
    """One row of the table, its words checked; raises KnowledgeError."""
    try:
        where = word(Position, position, "position") if position else None
        usual = word(SensorKind, rest.pop("usual"), "usual") if "usual" in rest else None
        return CodeMeaning(
            kind=word(CodeKind, kind, "kind"), role=word(Role, role, "role"), position=where, usual=usual, **rest
        )  # fmt: skip
    except (ValueError, TypeError) as error:
        raise KnowledgeError(f"codes.toml, {rest.get('code', '?')}: {error}") from None


def meaning(code: str) -> CodeMeaning | None:
    """What a generic code means; None for a maker's own or an unknown one. Raises SagenError for no code at all."""
    return table().get(parse_code(code))


def known_meaning(code: str) -> CodeMeaning | None:
    """The meaning of a code; None for what is no code, or none that is known.

    Parameters
    ----------
    code : str
        as it was typed
    """
    try:
        return meaning(code)
    except SagenError:
        return None


def unknown_codes(codes: Iterable[str]) -> list[str]:
    """Codes that are kept and weigh nothing, a sentence each."""
    out = []
    for code in codes:
        if known_meaning(code) is None:
            out.append(
                tr(
                    "{code} is not a code known here: it is kept and weighs nothing. Tie it to this circuit by hand.",
                    code=code,
                )
            )
    return out


def silent_sensors(known: Iterable[CodeMeaning]) -> dict[tuple, str]:
    """The sensors that codes say give no usable signal, each with a code that says so."""
    return {
        (item.role, item.bank, item.position, item.sensor): item.code
        for item in known
        if item.kind in (CodeKind.CIRCUIT, CodeKind.LOW, CodeKind.HIGH, CodeKind.INTERMITTENT)
    }


def several_silent(codes: Iterable[str]) -> bool:
    """Whether codes say that more than one sensor gives no usable signal."""
    return len(silent_sensors(_known(codes))) > 1


def _known(codes: Iterable[str]) -> list[CodeMeaning]:
    return [found for code in codes if (found := known_meaning(code)) is not None]


def beside(codes: list[str]) -> list[str]:
    """What several codes together would mean, a sentence each."""
    known, said = _known(codes), []
    sensors = silent_sensors(known)
    if any(item.kind == CodeKind.CORRELATION for item in known) and sensors:
        said.append(
            tr(
                "A correlation code beside a sensor code points at timing parts: look at belt, chain and tensioner "
                "first."
            )
        )
    if len(sensors) > 1:
        said.append(
            tr("Several sensors at once point at what they share: feed, return or module, before any one of them.")
        )
    if any(item.kind == "feed" for item in known):
        said.append(
            tr("The shared 5 V is out of range: unplug what hangs on it one after another before judging a sensor.")
        )
    if any(item.kind == CodeKind.RELEARN for item in known):
        said.append(tr("The wheel is not learned: a relearn is owed, and no part is bought for that code."))
    return said
