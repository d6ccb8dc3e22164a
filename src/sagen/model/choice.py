"""What a person chooses once for window and command line alike: a word in a file of its own, which the next start reads."""

from __future__ import annotations

from collections.abc import Container
from dataclasses import dataclass
from pathlib import Path

import platformdirs

LONGEST = 20  #: letters; what is longer is none of these words


@dataclass(frozen=True)
class Choice:
    """One such choice: where it is kept, what can be chosen, and what holds where nobody chose."""

    name: str
    known: Container[str]
    usual: str = ""

    @property
    def path(self) -> Path:
        """The file that it is kept in."""
        return platformdirs.user_config_path("sagen") / self.name

    def chosen(self) -> str:
        """What a person chose; the usual where nobody did, or what is kept makes no sense."""
        try:
            kept = self.path.read_text("utf-8")[:LONGEST].strip()
        except (OSError, ValueError):
            return self.usual
        return kept if kept in self.known else self.usual

    def keep(self, word: str) -> None:
        """Keep a choice for the next start, "" for none; raises OSError where it cannot be kept.

        Parameters
        ----------
        word : str
            one that is known, or ""
        """
        if not word:
            self.path.unlink(missing_ok=True)
            return
        self.path.parent.mkdir(parents=True, exist_ok=True)
        self.path.write_text(word, "utf-8")
