"""Bays that write while the server of their log is stopped hard and started again: every acknowledged entry is there, once."""

import sys
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

from postgres import server, until
from sagen.model.trail import NoteEntry
from sagen.store import moving
from sagen.store.entries import Author
from sagen.store.opening import open_log
from sagen.store.places import place_of


def run(bays: int, outages: int, seconds: float = 2.0) -> str:
    """Have bays write through so many outages; answers what was wrong, "" where nothing was, and prints the figures."""
    url, told, wrong, over = server().url(), [], [], threading.Event()
    with tempfile.TemporaryDirectory(prefix="outages-") as name:
        first = open_log(place_of(url, Path(name) / "first"))
        job_id = first.add_job("shared").id

        def write(bay: int) -> None:
            log = open_log(place_of(url, Path(name) / str(bay)), Author("", f"bay {bay}"))
            log.job(job_id)
            log.follow(lambda _job_id: None)
            number = 0
            while not over.is_set():
                try:
                    log.add_entry(job_id, NoteEntry(f"{bay} {number}"))
                    told.append(f"{bay} {number}")
                except Exception as error:
                    wrong.append(f"bay {bay}: {error!r}"[:200])
                number += 1
                time.sleep(0.01)
            if until(lambda: not log.waiting, 20) is None:
                wrong.append(f"bay {bay} still waits to send {log.waiting}")
            log.close()

        threads = [threading.Thread(target=write, args=(bay,)) for bay in range(bays)]
        for thread in threads:
            thread.start()
        for _ in range(outages):
            time.sleep(seconds / 2)
            server().stop()
            time.sleep(seconds / 2)
            server().start()
        time.sleep(seconds / 2)
        over.set()
        for this_thread in threads:
            this_thread.join()
        there = Counter(entry.record.text for entry in first.job(job_id).entries)
        wrong += [f"{item} is there {there[item]} times" for item in told if there[item] != 1]
        wrong += [f"{item.about}: {item.what}" for item in moving.check(first)]
        first.close()
    print(f"{bays} bays through {outages} outages: {len(told)} acknowledged; wrong: {len(wrong)}")
    return "; ".join(wrong[:5])


if __name__ == "__main__":
    said = run(6, 30)
    print(said)
    sys.exit(int(bool(said)))
