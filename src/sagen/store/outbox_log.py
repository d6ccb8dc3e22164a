"""A log on a server that may be away: what was read last is answered again, and what is written waits until it is back."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime

from sagen.model.errors import ChangedMeanwhile, StoreError
from sagen.model.job import Entry, Job, JobSummary
from sagen.model.language import tr
from sagen.store.captures import CaptureStore
from sagen.store.codecs import decode
from sagen.store.database import Database, Unreachable
from sagen.store.entries import Author, new_mark, tokens_in
from sagen.store.log import JobLog
from sagen.store.outbox import DeadLetter, Outbox
from sagen.store.tables import now

#: jobs that are remembered as they were read last, for when the server is away
REMEMBERED = 50


class OutboxLog(JobLog):
    """A job log on a PostgreSQL server, with an outbox here.

    Entries that wait have negative numbers until they are sent. What the server refuses for good becomes a dead letter, which
    a person sees, exports or drops; nothing else ever stops the queue.
    """

    is_shared = True

    def __init__(self, database: Database, captures: CaptureStore, author: Author | None = None):
        self._outbox = Outbox(database.place.folder)
        self._known: dict[int, Job] = {}
        self._listed: list[JobSummary] = []
        self._remembering = threading.Lock()
        super().__init__(database, captures, author)
        self.send_waiting()

    def follow(self, changed: Callable[[int | None], None]) -> None:
        def tick() -> None:
            try:
                if self._outbox.count() and self.send_waiting():
                    changed(None)
            except StoreError:
                pass  # told by whoever looks at `waiting`

        self._follower = self.database.follow(changed, tick)

    # reading ------------------------------------------------------------------------------

    def jobs(self, search: str = "") -> list[JobSummary]:
        try:
            found = super().jobs(search)
        except Unreachable:
            if not self._listed:
                raise
            words = search.casefold().split()
            return [
                summary
                for summary in self._listed
                if all(word in f"{summary.machine} {summary.owner} {summary.about}".casefold() for word in words)
            ]
        if not search:
            self._listed = found
        return found

    def job(self, job_id: int) -> Job:
        """A job with its trail, what waits for the server at its end."""
        try:
            found = super().job(job_id)
        except Unreachable:
            with self._remembering:
                found = self._known.get(job_id)
            if found is None:
                raise
        with self._remembering:
            self._known.pop(job_id, None)
            self._known[job_id] = found
            while len(self._known) > REMEMBERED:
                self._known.pop(next(iter(self._known)))
        return self._with_waiting(found)

    def kept_tokens(self) -> set[str]:
        """As of any log, and what waits or was refused names."""
        items = [item for _, item in self._outbox.items()] + [letter.item for letter in self._outbox.dead()]
        return super().kept_tokens().union(*(_named_by(item) for item in items))

    # what waits ---------------------------------------------------------------------------

    @property
    def waiting(self) -> int:
        return self._outbox.count()

    def dead_letters(self) -> list[DeadLetter]:
        return self._outbox.dead()

    def drop_dead_letter(self, number: int) -> None:
        letter = next((item for item in self._outbox.dead() if item.number == number), None)
        self._outbox.drop_dead(number)
        if letter is not None:
            for token in _named_by(letter.item) - self.kept_tokens():
                self.captures.remove(token)

    def forget_waiting(self, change: Callable[[dict], dict]) -> None:
        with self._remembering:
            self._known.clear()
        self._listed = []
        with self._outbox.alone():
            for number, item in self._outbox.items():
                self._outbox.replace(number, change(item))
            for letter in self._outbox.dead():
                self._outbox.rewrite_dead(letter.number, change(letter.item))

    def send_waiting(self) -> int:
        """Send what waits, oldest first; answers how many went. What was changed by another meanwhile, or can never be put in
        any more, does not stop what comes after it.

        Raises
        ------
        Unreachable
            when the server is still away.
        """
        if not self._outbox.count():
            return 0
        sent = 0
        with self._outbox.alone():
            for number, item in self._outbox.items():
                if item.get("log", self.identity) != self.identity:
                    self._outbox.bury(number, tr("it was written for another log that stood at this address"))
                    continue
                try:
                    sent += self._send(number, item)
                except Unreachable:
                    raise
                except StoreError as error:
                    self._outbox.bury(number, str(error))
        return sent

    def _send(self, number: int, item: dict) -> int:
        """Send one change; answers whether it went."""
        if "add" in item:
            self.entries.insert(item["add"])
            self._outbox.went(number, item["add"]["mark"])
            return 1
        try:
            self.entries.update(self._real(item["change"]), item["values"], item["revision"])
        except ChangedMeanwhile as error:
            if "data" not in item["values"]:
                raise StoreError(
                    tr(
                        "the entry was {it}: it was not withdrawn or put back over that",
                        it=str(error).partition(":")[0],
                    )
                ) from None
            # Their words stand; what was to take their place is not lost: at the end of the trail, withdrawn.
            made = {key: item["values"][key] for key in ("kind", "version", "data")}
            self.entries.insert(item["new"] | made | {"withdrawn": True})
        self._outbox.went(number, "")
        return 1

    def _with_waiting(self, job: Job) -> Job:
        """A job as it is here: with what waits at its end, and what is to be changed as it will be."""
        entries = {entry.id: entry for entry in job.entries}
        for number, item in self._outbox.items():
            new, change = item.get("add"), item.get("change")
            if new and new["job_id"] == job.id:
                entries[-number] = _waiting_entry(number, new)
            elif change in entries:
                values, entry = item["values"], entries[change]
                record = decode(values["kind"], values["version"], values["data"]) if "data" in values else entry.record
                withdrawn = values.get("withdrawn", entry.withdrawn)
                entries[change] = replace(
                    entry, record=record, withdrawn=withdrawn, waits=True, revision=item["revision"] + 1
                )
        return replace(job, entries=tuple(entries.values()))

    # writing ------------------------------------------------------------------------------

    def delete_job(self, job_id: int) -> None:
        super().delete_job(job_id)
        with self._remembering:
            self._known.pop(job_id, None)
        with self._outbox.alone():
            for number, item in self._outbox.items():
                if job_id in (item.get("add", {}).get("job_id"), item.get("new", {}).get("job_id")):
                    self._outbox.bury(number, tr("its job {job_id} was deleted here", job_id=job_id))

    def _add(self, new: dict) -> int:
        try:
            # What waits was written before this: it goes first, or this waits behind it.
            self.send_waiting()
            return self.entries.insert(new)
        except Unreachable:
            number = self._outbox.put({"add": new, "log": self.identity})
            for token in tokens_in(new["data"]):
                self.captures.commit(token)  # the outbox names it now
            return -number

    def _change(self, entry_id: int, values: dict, revision: int | None) -> None:
        if entry_id < 0:
            with self._outbox.alone():
                item = self._outbox.item(-entry_id)
                if item is not None:
                    self._outbox.replace(-entry_id, item | {"add": item["add"] | values})
                    return
            # It went meanwhile: the entry at the server is changed, as it was when it came there.
            entry_id = self._real(entry_id)
            revision = self.entries.revisions.get(entry_id, revision)
        try:
            self.send_waiting()
            self.entries.update(entry_id, values, revision)
        except Unreachable:
            # As it is here: what was changed here before counts as done, and is sent before.
            job_id, entry = self._entry(entry_id)
            new = {"job_id": job_id, "created": now().isoformat(), "author": self.author.author, "bay": self.author.bay,
                   "mark": new_mark()}  # fmt: skip
            expected = entry.revision if revision is None else revision
            self._outbox.put(
                {"change": entry_id, "values": values, "revision": expected, "new": new, "log": self.identity}
            )
            for token in tokens_in(values.get("data")):
                self.captures.commit(token)
            self.entries.revisions[entry_id] = expected + 1

    def _change_own(self, entry_id: int, values: dict) -> None:
        real = entry_id if entry_id > 0 or self._outbox.item(-entry_id) else self._real(entry_id)
        super()._change_own(real, values)

    def _real(self, entry_id: int) -> int:
        """The number at the server of an entry that waited."""
        if entry_id > 0:
            return entry_id
        mark = self._outbox.mark_of(-entry_id)
        found = self.entries.by_mark(mark) if mark else None
        if found is None:
            raise StoreError(tr("what was to be changed is not waiting any more"))
        return found

    def _entry(self, entry_id: int) -> tuple[int, Entry]:
        if entry_id < 0:
            item = self._outbox.item(-entry_id)
            if item is not None:
                return item["add"]["job_id"], _waiting_entry(-entry_id, item["add"])
            entry_id = self._real(entry_id)
        try:
            return super()._entry(entry_id)
        except Unreachable:
            with self._remembering:
                known = list(self._known)
            for job_id in known:
                entry = self.job(job_id).entry(entry_id)
                if entry is not None:
                    return job_id, entry
            raise


def _named_by(item: dict) -> set[str]:
    """The captures and photos that a change names: in its data, not in its own marks."""
    return tokens_in([item.get(part, {}).get("data") for part in ("add", "values")])


def _waiting_entry(number: int, new: dict) -> Entry:
    return Entry(
        -number, datetime.fromisoformat(new["created"]), decode(new["kind"], new["version"], new["data"]),
        new.get("withdrawn", False), author=new["author"], bay=new["bay"], waits=True,
    )  # fmt: skip
