"""One reading judged against its limits: corrected, with its uncertainty, and a verdict of three.

Uncertainty is carried through as in JCGM 100 (GUM); the probability of conformity is that of JCGM 106, 7.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from sagen.model.errors import SagenError, unknown_name

COPPER_PER_K = 0.00393  #: at 20 degC, IEC 60028 (from memory)
#: units of readings: quantity and factor to its SI unit
UNITS = {"ohm": ("ohm", 1.0), "kohm": ("ohm", 1e3), "Mohm": ("ohm", 1e6), "V": ("V", 1.0), "mV": ("V", 1e-3), "A": ("A", 1.0), "mA": ("A", 1e-3)} | {one: (one, 1.0) for one in ("Hz", "kPa", "degree", "%", "shown")}  # fmt: skip
#: temperature coefficient at 20 degC by material
MATERIALS = {"copper": COPPER_PER_K, "none": 0.0}
#: a verdict is given when it holds with this probability; between, it is too close to say
SURE = 0.95
TEMPERATURE_U = 2.0  #: K, standard uncertainty of a temperature taken by hand
LEADS_U = 0.02  #: ohm, standard uncertainty of the leads' own resistance


@dataclass(frozen=True)
class Accuracy:
    """A meter's accuracy: a share of the reading plus counts of its last digit."""

    percent: float = 1.0
    digits: float = 1.0
    digit: float | None = None  #: size of the last digit in the reading's unit; from the reading where None

    @classmethod
    def parse(cls, text: str) -> Accuracy:
        """`"0.8% + 3 x 0.1"`: percent of the reading, and digits times the size of one.

        >>> Accuracy.parse("0.8% + 3 x 0.1")
        Accuracy(percent=0.8, digits=3.0, digit=0.1)
        """
        number = r"(\d+(?:[.,]\d+)?)"
        match = re.fullmatch(
            rf"\s*{number}\s*%\s*(?:\+\s*{number}\s*(?:[x*×]\s*{number})?\s*(?:digits?|d)?)?\s*", text.strip()
        )
        if not match:
            raise SagenError(
                f"accuracy '{text}' is not of the form 0.8% + 3 x 0.1 (percent of reading + digits x size of a digit)"
            )
        values = [float(one.replace(",", ".")) if one else None for one in match.groups()]
        return cls(values[0], values[1] or 0.0, values[2])

    def standard(self, value: float, digit: float) -> float:
        """Standard uncertainty of a reading: the limits are taken as a rectangle (JCGM 100, 4.3.7)."""
        half = self.percent / 100 * abs(value) + self.digits * (digit if self.digit is None else self.digit)
        return half / math.sqrt(3)


@dataclass(frozen=True)
class Verdict:
    """A judged reading, in the unit it was given in."""

    value: float
    corrected: float
    uncertainty: float  #: standard uncertainty of `corrected`
    verdict: str  #: inside, outside or too_close
    probability_inside: float
    unit: str
    text: str

    def as_row(self) -> dict:
        return {
            "value": self.value,
            "corrected": _round(self.corrected, self.uncertainty),
            "uncertainty": float(f"{self.uncertainty:.3g}"),
            "verdict": self.verdict,
            "probability_inside": round(self.probability_inside, 4),
            "text": self.text,
        }


def judge(
    value: float,
    unit: str,
    low: float,
    high: float,
    *,
    at: float = 20.0,
    temperature: float | None = None,
    material: str = "copper",
    leads: float = 0.0,
    accuracy: Accuracy | None = None,
    digit: float | None = None,
) -> Verdict:
    """Judge a reading against limits in the same unit.

    Parameters
    ----------
    value, low, high : float
        in `unit`; low <= high; one of the limits may be infinite
    at, temperature : float, degC
        the temperature that the limits are for, and that of the part; resistance is brought to `at`
    leads : float, ohm
        the test leads' own resistance
    digit : float
        size of the reading's last digit, in `unit`; from the reading itself where None

    Raises
    ------
    SagenError
        for values that make no sense together.
    """
    if unit not in UNITS:
        raise SagenError(unknown_name("unit", unit, UNITS))
    if material not in MATERIALS:
        raise SagenError(unknown_name("material", material, MATERIALS))
    if (
        not all(math.isfinite(one) for one in (value, at, leads))
        or math.isnan(low)
        or math.isnan(high)
        or (temperature is not None and not math.isfinite(temperature))
    ):
        raise SagenError("every figure must be a finite number")
    if low > high:
        raise SagenError(f"the limits are the wrong way round: {low:g} to {high:g}")
    if leads < 0:
        raise SagenError("the leads' resistance cannot be negative")
    quantity, factor = UNITS[unit]
    if quantity != "ohm" and leads:
        raise SagenError("leads are taken off resistances only")
    for one in (at, temperature if temperature is not None else at):
        if not -60 <= one <= 250:
            raise SagenError(f"{one:g} degC makes no sense for a sensor")
    bare = value - leads / factor
    if quantity == "ohm" and bare < 0:
        raise SagenError(f"the reading ({value:g} {unit}) is smaller than the leads ({leads:g} ohm)")
    alpha = MATERIALS[material] if quantity == "ohm" else 0.0
    now = at if temperature is None else temperature
    # R(t) = R20 (1 + alpha (t - 20)): brought to the limits' own temperature.
    scale = (1 + alpha * (at - 20.0)) / (1 + alpha * (now - 20.0))
    corrected = bare * scale
    digit = _last_digit(value) if digit is None else digit
    parts = [(accuracy or Accuracy()).standard(value, digit) * scale]
    if leads:
        # The leads were measured with the same meter, and held another time.
        held = (accuracy or Accuracy()).standard(leads / factor, digit)
        parts.append(math.hypot(LEADS_U / factor, held) * scale)
    if temperature is not None and alpha:
        parts.append(abs(corrected) * alpha / (1 + alpha * (now - 20.0)) * TEMPERATURE_U)
    uncertainty = max(math.hypot(*parts), 1e-12)
    below, above = _normal((low - corrected) / uncertainty), _normal((corrected - high) / uncertainty)
    inside = max(1.0 - below - above, 0.0)
    # Outside only where one side is sure: between two limits that lie closer than the meter can tell, nothing is.
    verdict = "inside" if inside >= SURE else "outside" if max(below, above) >= SURE else "too_close"
    return Verdict(
        value,
        corrected,
        uncertainty,
        verdict,
        inside,
        unit,
        _words(verdict, corrected, uncertainty, low, high, unit, temperature, at, leads, quantity),
    )


def _normal(z: float) -> float:
    return 0.5 * (1 + math.erf(z / math.sqrt(2)))


def _last_digit(value: float) -> float:
    """The size of the last digit of a number, its trailing noughts not known."""
    return typed_digit(f"{value:.10g}")


def typed_digit(text: str) -> float:
    """The size of the last digit of a number as it was typed; noughts at its end count.

    >>> typed_digit("12.34"), typed_digit("0.20"), typed_digit("860")
    (0.01, 0.01, 1.0)
    """
    mantissa, _, power = text.strip().lower().replace(",", ".").partition("e")
    shift = int(power) if power.lstrip("+-").isdigit() else 0
    digits = len(mantissa.split(".")[1]) if "." in mantissa else 0
    return 10.0 ** (shift - digits)


def limit_of(text: str, unit: str) -> float:
    """A limit in the reading's unit, from a number that may carry a unit of its own.

    >>> limit_of("2000ohm", "kohm"), limit_of("0.5", "V")
    (2.0, 0.5)

    Raises
    ------
    SagenError
        for what is no number, or a unit of another quantity.
    """
    match = re.fullmatch(r"\s*([-+]?\d+(?:[.,]\d*)?(?:[eE][-+]?\d+)?)\s*([A-Za-z\u03a9]*)\s*", text)
    if not match:
        raise SagenError(f"limit '{text}' is not a number, with a unit of its own or without")
    value, own = float(match[1].replace(",", ".")), match[2] or unit
    for one in (own, unit):
        if one not in UNITS:
            raise SagenError(unknown_name("unit", one, UNITS))
    if UNITS[own][0] != UNITS[unit][0]:
        raise SagenError(f"limit '{text}' is in {own}, the reading in {unit}")
    return value * UNITS[own][1] / UNITS[unit][1]


def stored_accuracy() -> Accuracy | None:
    """The accuracy of the person's own meter, as `accuracy = "0.8% + 3"` in meter.toml of the user's configuration
    folder; None where there is none. Raises SagenError for a file that makes no sense."""
    import tomllib
    from pathlib import Path

    import platformdirs

    path = Path(platformdirs.user_config_dir("sagen", appauthor=False)) / "meter.toml"
    if not path.is_file():
        return None
    try:
        data = tomllib.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError) as error:
        raise SagenError(f"{path}: {error}") from None
    if set(data) != {"accuracy"} or not isinstance(data["accuracy"], str):
        raise SagenError(f'{path}: needs one line, accuracy = "0.8% + 3", and nothing else')
    return Accuracy.parse(data["accuracy"])


def _round(value: float, uncertainty: float) -> float:
    places = max(0, 2 - math.floor(math.log10(uncertainty))) if uncertainty > 0 else 6
    return round(value, min(places, 9))


def _words(verdict, corrected, uncertainty, low, high, unit, temperature, at, leads, quantity) -> str:
    done = [f"{corrected:.4g} {unit} ± {2 * uncertainty:.2g} (twice the standard uncertainty)"]
    if temperature is not None and quantity == "ohm":
        done.append(f"brought from {temperature:g} to {at:g} °C")
    if leads:
        done.append("leads taken off")
    limits = f"{low:g} to {high:g} {unit}"
    if math.isinf(low) or math.isinf(high):
        limits = f"at most {high:g} {unit}" if math.isinf(low) else f"at least {low:g} {unit}"
    said = {
        "inside": f"inside {limits}",
        "outside": f"outside {limits}",
        "too_close": f"too close to a limit of {limits} to say",
    }[verdict]
    text = f"{', '.join(done)}: {said}."
    if verdict == "too_close":
        nearest = min((low, high), key=lambda one: abs(one - corrected))
        text += f" What would settle it: a meter whose error at {nearest:g} {unit} is below {max(abs(nearest - corrected) / 2, 1e-9):.2g} {unit}"
        text += (
            ", the part at the limits' own temperature, and the leads' resistance taken off."
            if quantity == "ohm"
            else ", or the same reading under load."
        )
    return text
