"""From readings to verdicts: temperature, leads, the meter's accuracy, drops and dividers."""

from sagen.meter.judge import Accuracy, Verdict, judge, limit_of, stored_accuracy, typed_digit

__all__ = ["Accuracy", "Verdict", "judge", "limit_of", "stored_accuracy", "typed_digit"]
