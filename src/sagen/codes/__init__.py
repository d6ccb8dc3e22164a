"""Trouble codes to circuits. `codes.toml` is data; `lookup.py` reads it."""

from sagen.codes.lookup import CodeMeaning, meaning, parse_code

__all__ = ["CodeMeaning", "meaning", "parse_code"]
