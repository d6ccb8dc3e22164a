"""What is kept for the next job: machine cards and known-good captures."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import select, update

from sagen.model.errors import SagenError
from sagen.model.machine_card import MachineCard
from sagen.model.pattern import Pattern
from sagen.store.captures import CaptureStore
from sagen.store.codecs import VERSION
from sagen.store.database import Database
from sagen.store.entries import tokens_in
from sagen.store.reading import as_column
from sagen.store.tables import KeptRow

#: kinds of what is kept
CARD, PATTERN = "card", "pattern"


class Shelf:
    """The shelf of one log.

    Raises
    ------
    StoreError
        from every method, when the database refuses.
    """

    def __init__(self, database: Database, captures: CaptureStore):
        self._database, self._captures = database, captures

    def cards(self) -> list[tuple[int, MachineCard]]:
        """The machine cards; one that cannot be read is left out."""
        return self._kept(CARD, lambda row: MachineCard.from_data(row.data, row.name))

    def keep_card(self, card: MachineCard) -> int:
        """Keep a card; an older one of the same title gives way to it, and stays, withdrawn."""
        return self._keep(CARD, card.title, card.as_data())

    def patterns(self) -> list[tuple[int, Pattern]]:
        """The known-good captures; one that cannot be read is left out."""
        return self._kept(PATTERN, lambda row: Pattern.from_data(row.data, id=row.id, created=row.created))

    def keep_pattern(self, pattern: Pattern) -> int:
        """Keep a capture as known-good."""
        return self._keep(PATTERN, f"{pattern.name} {pattern.token}", pattern.as_data())

    def drop(self, kept_id: int, withdrawn: bool = True) -> None:
        """Take a card or a pattern off the shelf, or put it back."""
        with self._database.work() as session:
            session.execute(update(KeptRow).where(KeptRow.id == kept_id).values(withdrawn=withdrawn))
            self._database.commit(session, None)

    def _kept(self, kind: str, read: Callable[[KeptRow], object]) -> list:
        out = []
        with self._database.work() as session:
            rows = session.scalars(select(KeptRow).where(KeptRow.kind == kind, KeptRow.withdrawn.is_not(True)))
            for row in rows:
                try:
                    out.append((row.id, read(row)))
                except (SagenError, ValueError, TypeError, KeyError, AttributeError):
                    continue
        return out

    def _keep(self, kind: str, name: str, data: dict) -> int:
        name = as_column(name)[:200]
        with self._database.work() as session:
            older = (KeptRow.kind == kind, KeptRow.name == name, KeptRow.withdrawn.is_not(True))
            session.execute(update(KeptRow).where(*older).values(withdrawn=True))
            row = KeptRow(kind=kind, name=name, version=VERSION, data=data, withdrawn=False)
            session.add(row)
            session.flush()
            tokens = self._captures.send(session, tokens_in(data))
            self._database.commit(session, None)
            kept_id = row.id
        for token in tokens:
            self._captures.commit(token)
        return kept_id
