"""All rows of a log from one database into another, whichever kinds the two are."""

from __future__ import annotations

from sqlalchemy import Boolean, DateTime, Integer, String, column, func, insert, select, table, text, type_coerce
from sqlalchemy.engine import Connection

from sagen.model.text import as_utf8
from sagen.store.reading import as_text, as_time, as_truth
from sagen.store.tables import EntryRow, JobRow, JsonText, KeptRow

COPIED = (JobRow.__table__, EntryRow.__table__, KeptRow.__table__)
AT_ONCE = 1000


def copy_rows(source: Connection, target: Connection) -> None:
    """Copy jobs, entries and the shelf under the same numbers. Data stay the letters they are; a value that its column could
    not hold elsewhere (a date that is none) becomes what the window shows of it."""
    for item in COPIED:
        # Data as text: what cannot be read as JSON is copied, too.
        plain = table(
            item.name, *(column(c.name, String() if isinstance(c.type, JsonText) else c.type) for c in item.c)
        )
        raw = select(*(type_coerce(c, String).label(c.name) for c in item.c)).order_by(item.c.id)
        for rows in source.execute(raw).mappings().partitions(AT_ONCE):
            target.execute(insert(plain), [{c.name: _lawful(c, row[c.name]) for c in item.c} for row in rows])
        if target.dialect.name == "postgresql":
            # Numbers given here go on after the copied ones.
            last = target.scalar(select(func.max(item.c.id)))
            if last is not None:
                sequence = f"select setval(pg_get_serial_sequence('{item.name}', 'id'), :last)"
                target.execute(text(sequence), {"last": last})


def _lawful(of, value):
    """A value as its column holds it."""
    if isinstance(of.type, DateTime):
        return as_time(value)[0]
    if isinstance(of.type, Boolean):
        return as_truth(value)
    if value is None and of.nullable:
        return None
    if isinstance(of.type, Integer):
        try:
            return int(value)
        except (ValueError, TypeError):
            return None if of.nullable else 1
    told = as_utf8(as_text(value).replace("\0", ""))
    return told[: of.type.length] if isinstance(of.type, String) and of.type.length else told
