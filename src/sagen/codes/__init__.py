"""Trouble codes to circuits. `codes.toml` is data; `lookup.py` reads it."""

from sagen.codes.lookup import CodeMeaning, known_meaning, meaning, parse_code, silent_sensors

__all__ = ["CodeMeaning", "known_meaning", "meaning", "parse_code", "silent_sensors"]
