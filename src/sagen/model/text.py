"""Words from elsewhere as text that can be written."""

from __future__ import annotations


def as_utf8(text: str) -> str:
    """Text that every file, page and database takes: what is none (of a file's name that is not UTF-8) as question marks."""
    return text.encode("utf-8", "replace").decode()
