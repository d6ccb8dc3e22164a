"""From readings to verdicts: temperature, leads, the meter's accuracy, drops and dividers."""

from sagen.meter.judge import (
    Accuracy,
    Verdict,
    accuracy_file,
    judge,
    stored_accuracy,
    stored_accuracy_text,
    typed_digit,
)
from sagen.meter.limits import Limits, limit_of, table_of, tolerance_of

__all__ = [
    "Accuracy", "Limits", "Verdict", "accuracy_file", "judge", "limit_of", "stored_accuracy", "stored_accuracy_text", "table_of",
    "tolerance_of", "typed_digit",
]  # fmt: skip
