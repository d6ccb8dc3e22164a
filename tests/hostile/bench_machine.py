"""Any order of what can happen to a bench, as a state machine (Hypothesis, stateful): two windows on two logs, recordings,
undo, other bays, kills, full disks, a server that goes away. After every step each entry that was acknowledged is in exactly
one job of exactly one log, and nothing that nobody owns lies about."""

from __future__ import annotations

import errno
import shutil
import tempfile
import time
import unittest
from contextlib import suppress
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import HealthCheck, Phase, settings
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule
from hypothesis.strategies import booleans, integers

from conftest import square_teeth
from owner import Owner
from postgres import server
from sagen.casework import captures
from sagen.casework.examination import Incoming
from sagen.instruments.protocols import Block
from sagen.model.capture import Capture, Channel
from sagen.model.errors import SagenError
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, NoteEntry
from sagen.model.vocabulary import State
from sagen.store import captures as stored
from sagen.store import moving
from sagen.store.opening import open_log
from sagen.store.places import place_of
from sagen.workspace.events import Event, ImportRead, Said
from sagen.workspace.workspace import Workspace

VOLTS = (square_teeth(seconds=0.4, sfreq=20_000.0) * 1_000).astype(np.int16)
ROW = {"column": "CH1", "role": "crank", "sensor": "hall", "wheel": "60-2", "pull_up": 5.0}
SHEET = Sheet.from_data({"conditions": {"state": "cranking"}, "channel": [ROW]}, where="the machine's sheet")
picks = integers(0, 1_000)


class Killed(BaseException):
    """As a kill: nothing catches it, nothing is tidied up."""


class Tape:
    """A recorder that gives the same volts until it is stopped."""

    sfreq = 20_000.0

    def __init__(self):
        self.stopped = False

    def channels(self):
        return (Channel("CH1", VOLTS[:0], "V", 1e-3),)

    def stop(self):
        self.stopped = True

    def close(self):
        self.stopped = True

    def blocks(self, seconds, *, patience_s=0):
        while not self.stopped:
            yield Block(VOLTS[None, :2_000])
            time.sleep(0.005)


class Wire:
    """What stands on the wire: a tape, and no module."""

    def recorder(self, state, ranges=None):
        return Tape()

    def modules(self, state=None):
        raise SagenError("no module answers")

    def close(self):
        pass


class Window:
    """A workspace, its owner's loop and what it was told."""

    def __init__(self, place, key):
        self.key, self.owner, self.heard = key, Owner(), []
        self.space = Workspace(open_log(place), self.owner.post)
        self.space.events.subscribe(Event, self.heard.append)
        self.space.begin(self.space.log.jobs())
        self.wait()

    def wait(self):
        self.owner.until(lambda: self.space.queues.idle)
        self.owner.turn()

    def of(self, kind):
        return [event for event in self.heard if isinstance(event, kind)]

    def said(self):
        return " ".join(event.words for event in self.heard if isinstance(event, Said))

    def die(self):
        """As a killed process: what it held is let go by the kernel, nothing else is done."""
        self.space.queues.finish()
        for recording in self.space.recordings:
            recording.live.stop()
            recording.lease.let_go()
        for left in self.space.left:
            left.lease.let_go()
        self.space.log.close()


class BenchMachine(RuleBasedStateMachine):
    """On SQLite; `ServerMachine` has the same on PostgreSQL."""

    steps = 0  #: of all examples, for the figures of the long run

    def __init__(self):
        super().__init__()
        self.folder = Path(tempfile.mkdtemp(prefix="sagen-machine-"))
        self.places = {key: self.make_place(key) for key in "AB"}
        self.away = False
        #: log -> job -> texts that were acknowledged, and whether each counts
        self.kept: dict[str, dict[str, dict[str, bool]]] = {key: {} for key in "AB"}
        #: what was asked for and never acknowledged: once at most, where it was meant
        self.doubtful: dict[str, tuple[str, str]] = {}
        #: who changed a text last
        self.changer: dict[str, Window] = {}
        self.count = 0
        self.windows = [self.opened("A", bay) for bay in (0, 1)]

    # the world ------------------------------------------------------------------------------------------------

    def make_place(self, key):
        return place_of(self.folder / key)

    def opened(self, key, bay):
        return Window(self.places[key], key)

    def new(self, what):
        self.count += 1
        return f"{what} {self.count}"

    def truth(self, key):
        """All that a log holds, read anew: job -> name of an entry -> whether it counts; captures by their file's name."""
        log = open_log(self.places[key], outbox=False)
        try:
            found = {}
            for listed in log.jobs():
                held = {}
                for entry in log.job(listed.id).entries:
                    name = entry.record.text if isinstance(entry.record, NoteEntry) else entry.record.name
                    assert name not in held or name.startswith("live-"), f"{name} is there twice"
                    held[name] = not entry.withdrawn
                    if isinstance(entry.record, CaptureEntry):
                        assert log.capture(entry.record.token).samples > 0
                found[listed.machine] = held
            troubles = [trouble for trouble in moving.check(log) if "repair" not in trouble.what]
            assert not troubles, troubles
            return found
        finally:
            log.close()

    def at(self, pick):
        return self.windows[pick % len(self.windows)]

    def entry(self, window, pick):
        notes = [item for item in window.space.job.entries if isinstance(item.record, NoteEntry)]
        return notes[pick % len(notes)] if notes else None

    def machine(self, window):
        return window.space.job.machine

    def ledger(self, window):
        """What was acknowledged of a window's job; None where the job was deleted meanwhile."""
        return self.kept[window.key].get(self.machine(window))

    def acknowledged(self, window, name, counts=True):
        held = self.ledger(window)
        if held is None:
            self.doubtful[name] = (window.key, self.machine(window))
        else:
            held[name] = counts
            self.changer[name] = window

    # what a person does ---------------------------------------------------------------------------------------

    @rule(pick=picks)
    def new_job(self, pick):
        window, name = self.at(pick), self.new("machine")
        if self.away:
            return
        window.space.add_job(name, "", 4, [])
        window.wait()
        assert window.space.job.machine == name
        self.kept[window.key][name] = {}

    @rule(pick=picks, which=picks)
    def open_job(self, pick, which):
        window = self.at(pick)
        if self.away or not self.kept[window.key]:
            return
        name = sorted(self.kept[window.key])[which % len(self.kept[window.key])]
        [job] = [job for job in window.space.log.jobs() if job.machine == name]
        window.space.open_job(job.id)
        window.wait()
        assert window.space.job.machine == name

    @rule(pick=picks)
    def note(self, pick):
        window, text = self.at(pick), self.new("note")
        if window.space.job is None:
            return
        there = self.ledger(window) is not None
        window.space.add(NoteEntry(text))
        window.wait()
        if there:
            self.acknowledged(window, text)
        else:
            self.doubtful[text] = (window.key, window.space.job.machine if window.space.job else "")

    @rule(pick=picks, which=picks)
    def correct(self, pick, which):
        window = self.at(pick)
        if window.space.job is None or self.away or self.ledger(window) is None:
            return
        entry, text = self.entry(window, which), self.new("corrected")
        if entry is None:
            return
        was, held = entry.record.text, self.ledger(window)
        window.space.correct(entry, NoteEntry(text))
        window.wait()
        now = self.truth(window.key)[self.machine(window)]
        if was in now:
            # Another window had changed it: what was typed here is kept beside it, and does not count.
            assert was in held
            if text in now:
                held[text] = now[text]
                self.changer[text] = window
        else:
            del held[was]
            held[text] = now[text]
            self.changer[text] = window

    @rule(pick=picks, which=picks, back=booleans())
    def withdraw(self, pick, which, back):
        window = self.at(pick)
        if window.space.job is None or self.away or self.ledger(window) is None:
            return
        entry = self.entry(window, which)
        if entry is None:
            return
        window.space.withdraw(entry, not back)
        window.wait()
        held, now = self.ledger(window), self.truth(window.key)[self.machine(window)]
        text = entry.record.text
        if text in held and held[text] != now[text]:
            self.changer[text] = window
            held[text] = now[text]

    @rule(pick=picks, again=booleans())
    def undo(self, pick, again):
        """Of what others changed nothing is touched, and at most one thing is."""
        window = self.at(pick)
        if window.space.job is None or self.away or self.ledger(window) is None:
            return
        machine, before = self.machine(window), self.truth(window.key)
        (window.space.redo if again else window.space.undo)()
        window.wait()
        after = self.truth(window.key)
        others = {name: held for name, held in before.items() if name != machine}
        assert {name: held for name, held in after.items() if name in others} == others
        if machine not in after:
            del self.kept[window.key][machine]
            return
        was, now = before[machine], after[machine]
        gone, come = set(was) - set(now), set(now) - set(was)
        turned = {name for name in was if name in now and was[name] != now[name]}
        assert len(gone) <= 1
        assert len(come) <= 1
        assert len(turned) + max(len(gone), len(come)) <= 1, (gone, come, turned)
        held = self.kept[window.key][machine]
        for name in gone | turned:
            assert self.changer.get(name, window) is window, f"{name} was another window's change"
            held.pop(name, None)
        for name in come | turned:
            self.changer[name] = window
            if not name.startswith("live-"):  # recordings of one state share a name: they are counted, not named
                held[name] = now[name]

    @rule(pick=picks)
    def keep_a_capture(self, pick):
        window, name = self.at(pick), self.new("capture") + ".csv"
        if window.space.job is None or self.away:
            return
        machine = self.machine(window)
        window.space.keep_incoming(self.incoming(name), SHEET, from_shelf=False)
        window.wait()
        if window.space.job is None:  # its job was deleted elsewhere meanwhile, and it learned of that
            assert self.kept[window.key].get(machine) is None
            self.doubtful[name] = (window.key, machine)
        else:
            self.acknowledged(window, name)

    @rule(pick=picks, other=picks)
    def switch_while_a_capture_is_kept(self, pick, other):
        window, name = self.at(pick), self.new("capture") + ".csv"
        if window.space.job is None or self.away or self.ledger(window) is None:
            return
        machine = self.machine(window)
        window.space.keep_incoming(self.incoming(name), SHEET, from_shelf=False)
        jobs = window.space.log.jobs()
        window.space.open_job(jobs[other % len(jobs)].id)
        window.wait()
        self.kept[window.key][machine][name] = True
        self.changer[name] = window

    def incoming(self, name):
        return Incoming(Path(name), Capture(name, 20_000.0, (Channel("CH1", VOLTS, "V", 1e-3),)), SHEET)

    @rule(pick=picks, known=booleans())
    def record(self, pick, known):
        window = self.at(pick)
        if window.space.job is None or self.away or self.ledger(window) is None or len(window.space.recordings) > 1:
            return
        began = []
        window.space.held.start(
            window.space.job, State.CRANKING, lambda _job: Wire(), began.append, began.append,
            sheet=SHEET if known else None,
        )  # fmt: skip
        window.owner.until(lambda: began)
        assert not isinstance(began[0], str), began
        window.owner.until(lambda: began[0].live.samples > 4_000)

    @rule(pick=picks, keep=booleans())
    def end_a_recording(self, pick, keep):
        window = self.at(pick)
        if not window.space.recordings or self.away or window.space.imports.busy:
            return
        recording = window.space.recordings[-1]
        machine, space = recording.machine, window.space
        if not keep:
            space.held.discard(recording)
            window.wait()
            return
        space.held.stop(recording)
        space.bring_recording_in(recording)
        window.owner.until(lambda: window.of(ImportRead))
        incoming = window.of(ImportRead)[-1].incoming
        window.heard[:] = [event for event in window.heard if not isinstance(event, ImportRead)]
        before = self.recorded(window.key, machine)
        space.keep_incoming(incoming, SHEET, from_shelf=False)
        window.wait()
        if machine in self.kept[window.key]:
            assert self.recorded(window.key, machine) == before + 1

    def recorded(self, key, machine):
        log = open_log(self.places[key], outbox=False)
        try:
            jobs = [job for job in log.jobs() if job.machine == machine]
            return sum(
                isinstance(entry.record, CaptureEntry) and entry.record.name.startswith("live-")
                for job in jobs
                for entry in log.job(job.id).entries
            )
        finally:
            log.close()

    @rule(pick=picks)
    def another_log(self, pick):
        """The window opens the other log: what runs ends kept, in the log that it was begun in."""
        if self.away:
            return
        at = pick % len(self.windows)
        old = self.windows[at]
        old.space.close()
        self.windows[at] = self.opened("B" if old.key == "A" else "A", at)
        job = self.windows[at].space.job
        assert job is None or job.machine in self.kept[self.windows[at].key]

    @rule(pick=picks)
    def restart(self, pick):
        if self.away:
            return
        at = pick % len(self.windows)
        old = self.windows[at]
        machines = {item.machine for item in old.space.recordings if item.told} & set(self.kept[old.key])
        before = {machine: self.recorded(old.key, machine) for machine in machines}
        old.space.close()
        self.windows[at] = self.opened(old.key, at)
        for machine, count in before.items():
            assert self.recorded(old.key, machine) > count

    # what happens to them -------------------------------------------------------------------------------------

    @rule(pick=picks)
    def kill(self, pick):
        if self.away:
            return
        at = pick % len(self.windows)
        old = self.windows[at]
        running = {item.identity for item in old.space.recordings}
        left = {item.identity for item in old.space.left}
        old.die()
        self.windows[at] = self.opened(old.key, at)
        now = {item.identity for item in self.windows[at].space.left}
        assert running | left <= now, "what a killed window recorded is offered by the next one"

    @rule(pick=picks)
    def kill_while_a_capture_is_kept(self, pick):
        at = pick % len(self.windows)
        old, name = self.windows[at], self.new("capture") + ".csv"
        if old.space.job is None or self.away or self.ledger(old) is None:
            return
        machine = self.machine(old)
        with mock.patch.object(captures, "examine", side_effect=Killed), suppress(Killed):
            captures.Keep(old.space.job.id, self.incoming(name), SHEET, False).perform(old.space.log)
        old.die()
        self.windows[at] = self.opened(old.key, at)
        self.windows[at].wait()
        self.kept[old.key][machine][name] = True
        self.changer[name] = self.windows[at]

    @rule(pick=picks)
    def full_disk(self, pick):
        window, name = self.at(pick), self.new("capture") + ".csv"
        if window.space.job is None or self.away:
            return
        with mock.patch.object(stored, "_write_about", side_effect=OSError(errno.ENOSPC, "No space left on device")):
            window.space.keep_incoming(self.incoming(name), SHEET, from_shelf=False)
            window.wait()
        assert f"{name} was not kept" in window.said()
        self.doubtful[name] = (window.key, "")

    @rule(pick=picks, which=picks)
    def deleted_elsewhere(self, pick, which):
        window = self.at(pick)
        if self.away or len(self.kept[window.key]) < 2:
            return
        name = sorted(self.kept[window.key])[which % len(self.kept[window.key])]
        log = open_log(self.places[window.key], outbox=False)
        try:
            [job] = [job for job in log.jobs() if job.machine == name]
            log.delete_job(job.id)
        finally:
            log.close()
        del self.kept[window.key][name]

    # what is always so ----------------------------------------------------------------------------------------

    @invariant()
    def every_entry_is_where_it_belongs_and_nowhere_else(self):
        type(self).steps = vars(type(self)).get("steps", 0) + 1
        if self.away:
            return
        found = {key: self.truth(key) for key in self.places}
        for key, jobs in self.kept.items():
            for machine, held in jobs.items():
                assert machine in found[key], f"{machine} is gone from log {key}"
                now = {
                    name: counts
                    for name, counts in found[key][machine].items()
                    if not name.startswith(("live-", "Live"))
                }
                missing = {name: counts for name, counts in held.items() if now.get(name) != counts}
                assert not missing, (key, machine, missing, now)
        where = [
            name
            for jobs in found.values()
            for held in jobs.values()
            for name in held
            if not name.startswith(("live-", "Live"))
        ]
        assert len(where) == len(set(where)), "an entry is in two jobs"
        known = {name for jobs in self.kept.values() for held in jobs.values() for name in held} | set(self.doubtful)
        assert set(where) <= known | set(self.changer), "nobody asked for that"

    @invariant()
    def no_window_has_a_job_of_another_log_or_one_that_is_not_its_own(self):
        for window in self.windows:
            if window.space.job is not None:
                assert all(event.workspace == window.space.identity for event in window.heard)

    def teardown(self):
        if self.away:
            self.comes_back()
        for window in self.windows:
            window.space.close()
        for key in self.places:
            self.truth(key)
        shutil.rmtree(self.folder, ignore_errors=True)


class ServerMachine(BenchMachine):
    """The same on PostgreSQL, two bays with an outbox each; the server goes away and comes back."""

    def make_place(self, key):
        self.urls = getattr(self, "urls", {}) | {key: server().url()}
        return place_of(self.urls[key], self.folder / f"truth-{key}")

    def opened(self, key, bay):
        # A bay's own folder: what was left in it when it was killed is found by the window that opens there next.
        return Window(place_of(self.urls[key], self.folder / f"bay-{bay}-{key}"), key)

    @precondition(lambda self: not self.away)
    @rule()
    def goes_away(self):
        server().stop()
        self.away = True

    @precondition(lambda self: self.away)
    @rule()
    def comes_back(self):
        server().start()
        self.away = False
        for window in self.windows:
            window.wait()
            end = time.monotonic() + 20
            while window.space.log.waiting and time.monotonic() < end:
                with suppress(SagenError):
                    window.space.log.send_waiting()
                time.sleep(0.02)
            assert window.space.log.waiting == 0


def machine_of(base, examples, steps, *, shrinks=False):
    """The test case of a machine, so many examples of so many steps each."""
    case = base.TestCase
    case.settings = settings(
        max_examples=examples, stateful_step_count=steps, deadline=None, database=None,
        phases=(Phase.explicit, Phase.generate, *((Phase.shrink,) if shrinks else ())),
        suppress_health_check=list(HealthCheck), print_blob=True,
    )  # fmt: skip
    return case


def main():
    """5,000 steps on either back end; what failed stops it, with the steps that lead there."""
    for base, examples, steps in ((BenchMachine, 85, 60), (ServerMachine, 85, 60)):
        began = time.monotonic()
        unittest.TextTestRunner(verbosity=0, failfast=True).run(machine_of(base, examples, steps, shrinks=True)())
        print(f"{base.__name__}: {base.steps} steps, {time.monotonic() - began:.0f} s")


if __name__ == "__main__":
    main()
