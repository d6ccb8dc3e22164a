"""The interface's longest pause while 10,000 jobs are listed and searched, and how many statements that takes."""

from __future__ import annotations

import os
import tempfile
import time
from datetime import datetime, timedelta
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PySide6.QtCore import QSettings
from sqlalchemy import event, insert

from benchmarks.run_gap import longest_gap
from sagen.desk.app import make_application, make_window
from sagen.desk.collector import Collector
from sagen.model.trail import NoteEntry
from sagen.store import moving
from sagen.store.opening import open_log
from sagen.store.reading import write_missing_checksums
from sagen.store.tables import EntryRow, JobRow

JOBS, ENTRIES = 10_000, 4


def fill(folder: Path) -> None:
    """A log of many jobs with a few entries each."""
    log = open_log(folder)
    began = datetime(2026, 1, 1)
    with log._engine.begin() as connection:
        jobs = [
            {
                "id": number, "machine": f"Machine {number}", "owner": f"Owner {number % 997}", "withdrawn": False,
                "created": began + timedelta(minutes=number), "about": f"Stalls  ·  P{335 + number % 40:04d}",
                "entries": ENTRIES, "stage": "finding",
            }
            for number in range(1, JOBS + 1)
        ]  # fmt: skip
        connection.execute(insert(JobRow), jobs)
        entries = [
            {"job_id": job, "kind": "note", "version": 2, "data": {"text": f"note {index}"}, "withdrawn": False}
            for job in range(1, JOBS + 1)
            for index in range(ENTRIES)
        ]
        connection.execute(insert(EntryRow), entries)
    with log.database.work() as session:
        write_missing_checksums(session)
        session.commit()
    return log


def whole_log(folder: Path) -> None:
    """How long a log of that size takes to be opened, searched, backed up and checked."""
    fill(folder).close()
    print("| a log of that size | s |\n|---|---|")

    def timed(what: str, deed):
        began = time.perf_counter()
        answer = deed()
        print(f"| {what} | {time.perf_counter() - began:.2f} |")
        return answer

    log = timed("opened", lambda: open_log(folder))
    timed("listed", log.jobs)
    timed("searched", lambda: log.jobs("machine 77"))
    timed("one job read", lambda: log.job(JOBS // 2))
    timed("one entry added", lambda: log.add_entry(JOBS // 2, NoteEntry("one more")))
    timed("backed up", lambda: moving.backup(log, folder / "all.zip"))
    timed("checked", lambda: moving.check(log))
    log.close()
    print()


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="sagen-log-") as name:
        whole_log(Path(name) / "log")
    make_application()
    folder = Path(tempfile.mkdtemp(prefix="sagen-log-"))
    log = fill(folder / "log")
    statements: list[str] = []
    event.listen(log._engine, "before_cursor_execute", lambda _c, _u, statement, *_: statements.append(statement))
    window = make_window(QSettings(str(folder / "s.ini"), QSettings.Format.IniFormat))
    window.show()
    longest_gap(window, lambda: window.workspace.open_log(lambda _: log))
    for _ in range(20):
        longest_gap(window, lambda: None)
    Collector(lambda: window.workspace.idle, window)
    page = window.page("log")
    window.show_page("log")
    print(f"{JOBS} jobs with {ENTRIES} entries each\n")
    print("| while | statements | longest gap, ms: median | worst | answered after, ms |\n|---|---|---|---|---|")
    shown: list[float] = []
    window.workspace.jobs_changed.connect(lambda _: shown.append(time.perf_counter()))
    for words in ("", "machine 77", "P0350 owner 5", "nothing of the kind"):
        gaps, took = [], []
        for _ in range(5):
            statements.clear()
            shown.clear()
            page.search.blockSignals(True)
            page.search.setText(words)
            page.search.blockSignals(False)
            began = time.perf_counter()
            gap, _ = longest_gap(window, lambda words=words: window.workspace.list_jobs(words))
            gaps.append(gap)
            took.append(1e3 * (shown[0] - began))
        what = f"searching '{words}' ({page.model.rowCount()} found)" if words else "listing all"
        print(f"| {what} | {len(statements)} | {np.median(gaps):.0f} | {max(gaps):.0f} | {np.median(took):.0f} |")
    window.close()


if __name__ == "__main__":
    main()
