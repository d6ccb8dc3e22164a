"""JSON as the standard has it (RFC 8259): no NaN, no infinities, neither read nor written."""

from __future__ import annotations

import json
import math

from sagen.model.language import tr


def loads(text: str | bytes):
    """The value of a text.

    Raises
    ------
    ValueError
        for what is no JSON, NaN and infinities, and numbers beyond every float among it.
    """
    return json.loads(text, parse_constant=_none_such, parse_float=_number)


def dumps(value) -> str:
    """A value as a text; a number that is none becomes null."""
    try:
        return json.dumps(value, ensure_ascii=False, allow_nan=False)
    except ValueError:
        return json.dumps(_finite(value), ensure_ascii=False, allow_nan=False)


def _none_such(name: str):
    raise ValueError(tr("{name} is no number", name=name))


def _number(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise ValueError(tr("{text} is beyond every number", text=text[:20]))
    return value


def _finite(value):
    if isinstance(value, dict):
        return {key: _finite(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(item) for item in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value
