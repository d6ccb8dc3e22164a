"""A customer's name out of a log: wherever a record declares words of a person's own, in any letter case."""

from __future__ import annotations

import enum
import json
import re
from dataclasses import fields, is_dataclass
from functools import cache
from typing import Any, get_type_hints
from unicodedata import normalize

from sqlalchemy import select, update

from sagen.model import circuit, finding, machine_card, sheet, vocabulary
from sagen.model.errors import StoreError
from sagen.model.language import tr
from sagen.model.trail import Record
from sagen.reason.facts import knowledge
from sagen.store.codecs import RECORDS
from sagen.store.log import JobLog
from sagen.store.reading import as_text, has_valid_checksum, one_row, refresh, write_checksum
from sagen.store.tables import EntryRow, JobRow, KeptRow

#: what stands where a customer's name stood
REMOVED = "(name removed)"
#: what names samples, which are as they were recorded
OF_SAMPLES = frozenset({"column", "channel", "token"})
#: words of closed sets: what an undeclared field holds of them is no name
CLOSED = frozenset(
    str(member) for kind in vars(vocabulary).values() if isinstance(kind, enum.EnumType) for member in kind
)
#: names of types that a record's annotations may use
_NAMES = {**vars(circuit), **vars(finding), **vars(machine_card), **vars(sheet), **vars(vocabulary)}


class Name:
    """A name to be found in any letter case, as Unicode folds it, whatever blanks stand between its words."""

    def __init__(self, name: str):
        words = normalize("NFC", name).casefold().split()
        if len("".join(words)) < 2:
            raise StoreError(tr("say the whole name that is to be removed"))
        self._pattern = re.compile(r"(?<!\w)" + r"\s+".join(re.escape(word) for word in words) + r"(?!\w)")
        self._folded = " ".join(words)

    def is_all_of(self, text: str) -> bool:
        return " ".join(normalize("NFC", text).casefold().split()) == self._folded

    def removed(self, text: str) -> str:
        """The text without it.

        >>> Name("Straße").removed("in der STRASSE 3")
        'in der (name removed) 3'
        """
        text = normalize("NFC", text)
        # Folding may make two letters of one: which letter each came from is kept.
        folded, whence = [], []
        for at, letter in enumerate(text):
            for item in letter.casefold():
                folded.append(item)
                whence.append(at)
        out, last = [], 0
        for match in self._pattern.finditer("".join(folded)):
            out += [text[last : whence[match.start()]], REMOVED]
            last = whence[match.end() - 1] + 1
        return "".join(out) + text[last:] if out else text


@cache
def _declared(kind: type) -> dict[str, Any]:
    """The types of a record's or a model's fields."""
    if is_dataclass(kind):
        hints = get_type_hints(kind, localns=_NAMES)
        return {field.name: hints[field.name] for field in fields(kind)}
    return {name: field.annotation for name, field in kind.model_fields.items()}


def _kinds(annotation: Any) -> list[Any]:
    """The types that an annotation is made of."""
    inside = getattr(annotation, "__args__", None)
    if not inside:
        return [annotation]
    return [kind for part in inside for kind in _kinds(part)]


def without(data: Any, name: Name, annotation: Any = Any) -> Any:
    """Plain data of a declared type without a name: in text, and not in what holds words of a closed set."""
    kinds = _kinds(annotation)
    record = next(
        (kind for kind in kinds if isinstance(kind, type) and (is_dataclass(kind) or hasattr(kind, "model_fields"))),
        None,
    )
    if isinstance(data, dict):
        declared = _declared(record) if record is not None else {}
        return {
            key: value if key in OF_SAMPLES else without(value, name, declared.get(key, Any))
            for key, value in data.items()
        }
    if isinstance(data, list):
        return [without(part, name, record if record is not None else annotation) for part in data]
    if not isinstance(data, str):
        return data
    closed = any(isinstance(kind, enum.EnumType) for kind in kinds) and str not in kinds
    if closed or (str not in kinds and data in CLOSED):
        return data
    return name.removed(data)


def without_name(kind: str, data: Any, name: Name) -> Any:
    """A record's data without a name."""
    record: type[Record] | None = next((cls for slug, cls in RECORDS.items() if str(slug) == kind), None)
    out = without(data, name, record if record is not None else Any)
    if kind == "inspection" and isinstance(data, dict) and knowledge().check(str(data.get("check", ""))) is not None:
        out["check"] = data["check"]  # the name of a check of ours
    return out


def forget_customer(log: JobLog, name: str) -> int:
    """Remove a customer's name from every job, as its owner and from what was written, and from the shelf; answers from how
    many jobs.

    Raises
    ------
    StoreError
        for a name of less than two letters, or when the database refuses.
    """
    sought = Name(name)
    jobs = set()
    with log.database.work() as session:
        for job_id, *told in session.execute(select(JobRow.id, JobRow.owner, JobRow.machine)).all():
            owner, machine = (as_text(item) for item in told)
            values = {"owner": "" if sought.is_all_of(owner) else sought.removed(owner)[:200],
                      "machine": sought.removed(machine)[:200]}  # fmt: skip
            if values != {"owner": owner, "machine": machine}:
                session.execute(update(JobRow).where(JobRow.id == job_id).values(**values))
                jobs.add(job_id)
        for entry_id in session.scalars(select(EntryRow.id).order_by(EntryRow.id)).all():
            row = one_row(session, entry_id)
            if has_valid_checksum(row) is False:
                continue
            try:
                data = json.loads(row[5])
            except (ValueError, TypeError, RecursionError):
                continue
            told = without_name(as_text(row[2]), data, sought)
            if told != data:
                values = {"data": told, "revision": EntryRow.revision + 1}
                session.execute(update(EntryRow).where(EntryRow.id == entry_id).values(**values))
                write_checksum(session, entry_id)
                jobs.add(row[1])
        for kept in session.scalars(select(KeptRow)).all():
            told, called = without(kept.data, sought), sought.removed(kept.name)
            if told != kept.data or called != kept.name:
                kept.data, kept.name = told, called[:200]
        for job_id in jobs:
            refresh(session, job_id)
            log.forget_steps(job_id)  # a step back would bring the name again
        log.database.commit(session, None)
    log.database.leave_no_trace()
    log.forget_waiting(lambda item: _without_in_change(item, sought))
    return len(jobs)


def _without_in_change(item: dict, name: Name) -> dict:
    """A change that waits, without a name."""
    out = dict(item)
    for part in ("add", "values", "new"):
        if isinstance(item.get(part), dict) and "data" in item[part]:
            kind = item[part].get("kind") or item.get("values", {}).get("kind", "")
            out[part] = item[part] | {"data": without_name(str(kind), item[part]["data"], name)}
    return out
