"""One reading judged against its limits: corrected, with its uncertainty, and a verdict of three.

Uncertainty is carried through as in JCGM 100 (GUM); the probability of conformity is that of JCGM 106, 7.
"""

from __future__ import annotations

import math
import re
import tomllib
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from sagen.meter.limits import quantity_of
from sagen.model.errors import SagenError, unknown_name
from sagen.model.language import tr
from sagen.model.quantities import TEMPERATURE

COPPER_PER_K = 0.00393  #: at 20 degC, IEC 60028 (from memory)
#: temperature coefficient at 20 degC by material
MATERIALS = {"copper": COPPER_PER_K, "none": 0.0}
#: a verdict is given when it holds with this probability; between, it is too close to say
SURE = 0.95
#: K, standard uncertainty of the temperature of a winding, which is not quite where the thermometer is; and of a thermometer
#: beside a part that is measured by its temperature: a kelvin either way, as a rectangle
TEMPERATURE_U, THERMOMETER_U = 2.0, 0.6
OVER_RANGE = "OL"  #: how a meter shows more than its range
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

        Parameters
        ----------
        text : str
            as a meter's booklet has it
        """
        number = r"(\d+(?:[.,]\d+)?)"
        match = re.fullmatch(
            rf"\s*{number}\s*%\s*(?:\+\s*{number}\s*(?:[x*×]\s*{number})?\s*(?:digits?|d)?)?\s*", text.strip()
        )
        if not match:
            raise SagenError(
                tr(
                    "accuracy '{text}' is not of the form 0.8% + 3 x 0.1 (percent of reading + digits x size of a "
                    "digit)",
                    text=text,
                )
            )
        values = [float(group.replace(",", ".")) if group else None for group in match.groups()]
        return cls(values[0], values[1] or 0.0, values[2])

    def standard(self, value: float, digit: float) -> float:
        """Standard uncertainty of a reading: the limits are taken as a rectangle (JCGM 100, 4.3.7).

        Parameters
        ----------
        value : float
            the reading
        digit : float
            one count of the last digit, in the reading's unit

        Returns
        -------
        float
            in the reading's unit
        """
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
        over = math.isinf(self.value)
        return {
            "value": OVER_RANGE if over else self.value,
            "corrected": OVER_RANGE if over else _round(self.corrected, self.uncertainty),
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
    slope: float = 0.0,
) -> Verdict:
    """Judge a reading against limits in the same unit.

    Parameters
    ----------
    value, low, high : float
        in `unit`; low <= high; one of the limits may be infinite. An infinite value is over range ("OL"): more than the
        meter can show
    at, temperature : float, degC
        the temperature that the limits are for, and that of the part; resistance is brought to `at`
    leads : float, ohm
        the test leads' own resistance, whatever `unit` is
    digit : float
        size of the reading's last digit, in `unit`; from the reading itself where None
    slope : float
        how the limits change with the part's temperature, share a kelvin: its uncertainty is carried through

    Raises
    ------
    SagenError
        for values that make no sense together.

    References
    ----------
    JCGM 100:2008, 5.1.2 (uncertainty carried through) and JCGM 106:2012, 7 (probability of conformity). From memory.
    """
    quantity, factor = quantity_of(unit)
    if material not in MATERIALS:
        raise SagenError(unknown_name("material", material, MATERIALS))
    figures = (at, leads, *(() if temperature is None else (temperature,)))
    if math.isnan(value) or value == -math.inf or any(math.isnan(limit) for limit in (low, high)):
        raise SagenError(tr("every figure must be a number"))
    if not all(math.isfinite(figure) for figure in figures):
        raise SagenError(tr("every figure must be a finite number"))
    if low > high:
        raise SagenError(tr("the limits are the wrong way round: {low:g} to {high:g}", low=low, high=high))
    if leads < 0:
        raise SagenError(tr("the leads' resistance cannot be negative"))
    if quantity != "ohm" and leads:
        raise SagenError(tr("leads are taken off resistances only"))
    if quantity == "ohm" and value < 0:
        raise SagenError(tr("{value:g} {unit} is no resistance", value=value, unit=unit))
    for celsius in (at, temperature if temperature is not None else at):
        if not -60 <= celsius <= 300:
            raise SagenError(tr("{celsius:g} degC makes no sense for a sensor", celsius=celsius))
    if math.isinf(value):
        return _over_range(unit, low, high)
    bare = value - leads / factor
    shorted = quantity == "ohm" and leads > 0 and bare <= 0
    alpha = MATERIALS[material] if quantity == "ohm" else 0.0
    now = at if temperature is None else temperature
    # R(t) = R20 (1 + alpha (t - 20)): brought to the limits' own temperature.
    scale = (1 + alpha * (at - 20.0)) / (1 + alpha * (now - 20.0))
    corrected = max(bare, 0.0) * scale if quantity == "ohm" else bare * scale
    digit = _last_digit(value) if digit is None else digit
    parts = [(accuracy or Accuracy()).standard(value, digit) * scale]
    if leads:
        # The leads were measured with the same meter, and held another time.
        held = (accuracy or Accuracy()).standard(leads / factor, digit)
        parts.append(math.hypot(LEADS_U / factor, held) * scale)
    if temperature is not None and alpha:
        parts.append(abs(corrected) * alpha / (1 + alpha * (now - 20.0)) * TEMPERATURE_U)
    if slope:
        parts.append(abs(corrected) * slope * THERMOMETER_U)
    uncertainty = max(math.hypot(*parts), 1e-12)
    below, above = _normal((low - corrected) / uncertainty), _normal((corrected - high) / uncertainty)
    inside = max(1.0 - below - above, 0.0)
    # Outside only where one side is sure: between two limits that lie closer than the meter can tell, nothing is.
    verdict = "inside" if inside >= SURE else "outside" if max(below, above) >= SURE else "too_close"
    text = _words(verdict, corrected, uncertainty, low, high, unit, temperature, at, leads, quantity, material)
    if shorted:
        text = tr("No more than the leads themselves: shorted, as far as this meter can tell. {text}", text=text)
    return Verdict(value, corrected, uncertainty, verdict, inside, unit, text)


def _over_range(unit: str, low: float, high: float) -> Verdict:
    """Over range: above every limit, and inside where there is none above."""
    inside = math.isinf(high)
    said = (
        tr("inside {low}", low=_limits(low, high, unit))
        if inside
        else tr("outside {low}", low=_limits(low, high, unit))
    )
    text = tr("Over range: more than the meter can show: {said}.", said=said)
    if not inside:
        text += tr(" An open circuit, or a range chosen too small: try the largest range before it is called open.")
    return Verdict(math.inf, math.inf, 0.0, "inside" if inside else "outside", float(inside), unit, text)


def _normal(z: float) -> float:
    return 0.5 * (1 + math.erf(z / math.sqrt(2)))


def _last_digit(value: float) -> float:
    """The size of the last digit of a number, its trailing noughts not known."""
    return typed_digit(f"{value:.10g}")


def typed_digit(text: str) -> float:
    """The size of the last digit of a number as it was typed; noughts at its end count.

    >>> typed_digit("12.34"), typed_digit("0.20"), typed_digit("860")
    (0.01, 0.01, 1.0)

    Parameters
    ----------
    text : str
        as typed

    Returns
    -------
    float
        in the unit of the number
    """
    mantissa, _, power = text.strip().lower().replace(",", ".").partition("e")
    shift = int(power) if power.lstrip("+-").isdigit() else 0
    digits = len(mantissa.split(".")[1]) if "." in mantissa else 0
    return 10.0 ** (shift - digits)


def stored_accuracy() -> Accuracy | None:
    """The accuracy of the person's own meter, as `accuracy = "0.8% + 3"` in meter.toml of the user's configuration
    folder; None where there is none. Raises SagenError for a file that makes no sense."""
    text = stored_accuracy_text()
    return Accuracy.parse(text) if text else None


def accuracy_file() -> Path:
    """Where the accuracy of the person's own meter stands."""
    return Path(platformdirs.user_config_dir("sagen", appauthor=False)) / "meter.toml"


def stored_accuracy_text() -> str:
    """The accuracy of the person's own meter as it was written, "" where there is none; raises as `stored_accuracy` does."""
    path = accuracy_file()
    if not path.is_file():
        return ""
    try:
        data = tomllib.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError) as error:
        raise SagenError(f"{path}: {error}") from None
    if set(data) != {"accuracy"} or not isinstance(data["accuracy"], str):
        raise SagenError(tr('{path}: needs one line, accuracy = "0.8% + 3", and nothing else', path=path))
    return data["accuracy"]


def _round(value: float, uncertainty: float) -> float:
    places = max(0, 2 - math.floor(math.log10(uncertainty))) if uncertainty > 0 else 6
    return round(value, min(places, 9))


def _limits(low: float, high: float, unit: str) -> str:
    if math.isinf(low) or math.isinf(high):
        return (
            tr("at most {high:g} {unit}", high=high, unit=unit)
            if math.isinf(low)
            else tr("at least {low:g} {unit}", low=low, unit=unit)
        )
    return tr("{low:.6g} to {high:.6g} {unit}", low=low, high=high, unit=unit)


def _words(verdict, corrected, uncertainty, low, high, unit, temperature, at, leads, quantity, material) -> str:
    done = [
        tr(
            "{corrected:.4g} {unit} ± {uncertainty:.2g} (twice the standard uncertainty)",
            corrected=corrected,
            unit=unit,
            uncertainty=2 * uncertainty,
        )
    ]
    if temperature is not None and quantity == "ohm":
        done.append(
            tr("brought from {temperature} to {at}", temperature=TEMPERATURE.said(temperature), at=TEMPERATURE.said(at))
            if MATERIALS[material]
            else tr("nothing corrected for its {temperature}", temperature=TEMPERATURE.said(temperature))
        )
    if leads:
        done.append(tr("leads taken off"))
    limits = _limits(low, high, unit)
    said = {
        "inside": tr("inside {limits}", limits=limits),
        "outside": tr("outside {limits}", limits=limits),
        "too_close": tr("too close to a limit of {limits} to say", limits=limits),
    }[verdict]
    text = f"{', '.join(done)}: {said}."
    if verdict == "too_close":
        nearest = min((low, high), key=lambda limit: abs(limit - corrected))
        text += tr(
            " What would settle it: a meter whose error at {nearest:g} {unit} is below {nearest_2:.2g} {unit}",
            nearest=nearest,
            unit=unit,
            nearest_2=max(abs(nearest - corrected) / 2, 1e-9),
        )
        text += (
            tr(", the part at the limits' own temperature, and the leads' resistance taken off.")
            if quantity == "ohm"
            else tr(", or the same reading under load.")
        )
    return text
