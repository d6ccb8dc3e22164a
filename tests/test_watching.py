"""The watched folder: what is new or written anew comes in once, whole."""

import os
import queue
import shutil

import pytest

from sagen.casework import watching
from sagen.casework.watching import WatchedFolder

ROWS = [f"{k / 1000:.3f},{k % 5}\n" for k in range(5_000)]


@pytest.fixture
def watched(tmp_path, monkeypatch):
    """A folder that is watched with short waits, and what came of it."""
    for name, seconds in (("REST_S", 0.15), ("LONG_REST_S", 30.0), ("LOOK_S", 0.03), ("ANYWAY_S", 0.1)):
        monkeypatch.setattr(watching, name, seconds)
    folder = tmp_path / "watched"
    folder.mkdir()
    (folder / "before.csv").write_text("time,CH1\n" + "".join(ROWS))
    came = queue.Queue()
    made = WatchedFolder(folder, frozenset({".csv"}), lambda path: came.put((path.name, path.stat().st_size)))
    yield folder, came
    made.stop()


def nothing_comes(came, seconds=0.6):
    with pytest.raises(queue.Empty):
        came.get(timeout=seconds)


def test_a_table_that_ends_in_mid_row_is_waited_for(watched):
    folder, came = watched
    text = "time,CH1\n" + "".join(ROWS)
    half = text[:-4]
    with open(folder / "a.csv", "w") as file:
        file.write(half)
        file.flush()
        nothing_comes(came)
        file.write(text[len(half) :])
    assert came.get(timeout=5) == ("a.csv", len(text))
    nothing_comes(came)


def test_a_file_that_grows_while_it_is_looked_at_comes_once(watched, monkeypatch):
    folder, came = watched
    text = "time,CH1\n" + "".join(ROWS)
    seen = watching.is_whole

    def grows_meanwhile(path):
        path.write_text(text)
        monkeypatch.setattr(watching, "is_whole", seen)
        return seen(path)

    monkeypatch.setattr(watching, "is_whole", grows_meanwhile)
    (folder / "a.csv").write_text(text[:-4])
    assert came.get(timeout=5) == ("a.csv", len(text))
    nothing_comes(came)


def test_what_is_written_anew_comes_again_and_what_was_there_before_does_not(watched):
    folder, came = watched
    (folder / "a.csv").write_text("time,CH1\n" + "".join(ROWS))
    first = came.get(timeout=5)
    (folder / "a.csv").write_text("time,CH1\n" + "".join(ROWS[:2_000]))
    again = came.get(timeout=5)
    assert first[0] == again[0] == "a.csv"
    assert again[1] < first[1]
    # Another file under the same name and of the same size, as recorders do that count from one each day.
    (folder / "passing.part").write_text("time,CH1\n" + "".join(ROWS[1_000:3_000]))
    os.replace(folder / "passing.part", folder / "a.csv")
    assert came.get(timeout=5)[0] == "a.csv"
    nothing_comes(came)


def test_a_folder_that_is_removed_and_made_again_is_still_watched(watched):
    folder, came = watched
    shutil.rmtree(folder)
    nothing_comes(came, 0.3)
    folder.mkdir()
    (folder / "b.csv").write_text("time,CH1\n" + "".join(ROWS))
    assert came.get(timeout=5)[0] == "b.csv"


@pytest.mark.long
def test_of_thousands_of_files_none_is_missed(watched):
    folder, came = watched
    for k in range(6_000):
        (folder / f"{k}.csv").write_text("time,CH1\n0,1\n1,2\n")
    assert {came.get(timeout=20)[0] for _ in range(6_000)} == {f"{k}.csv" for k in range(6_000)}
