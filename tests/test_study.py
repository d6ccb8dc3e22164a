"""An archive to Parquet: what stands there is what `sagen examine` says, whoever did the work."""

import importlib.util
import json
import os
import shutil

import numpy as np
import pandas as pd
import pytest

from sagen.casework.examination import capture_entry, read_pair
from sagen.casework.study import sources_of, study
from sagen.cli import main
from sagen.kinds import examine
from sagen.model.errors import SagenError
from sagen.signal.measures import tooth_measures
from sagen.store.opening import open_log


@pytest.fixture
def archive(make_csv, tmp_path):
    """Three captures in two folders, one that is none, and a name that is no text."""
    folder = tmp_path / "archive"
    (folder / "within").mkdir(parents=True)
    for number, lost in enumerate(((), (31,), (12,))):
        path = make_csv(f"{number}.csv", lost=lost)
        for item in (path, path.with_name(f"{number}.sheet.toml")):
            shutil.move(item, folder / ("within" if number else "") / item.name)
    (folder / "bad.csv").write_text("nothing,at all\n")
    (folder / "notes.md").write_text("no capture")
    (folder / "loop").symlink_to(folder)
    with open(os.fsencode(folder / "within") + b"/\xff.csv", "wb") as odd:
        odd.write((folder / "0.csv").read_bytes())
    return folder


@pytest.mark.long
def test_a_folder_is_studied_as_each_capture_is_examined(archive, tmp_path, capsys):
    out = tmp_path / "out.parquet"
    assert main(["study", str(archive), "--workers", "2", "-o", str(out), "--json"]) == 0
    said = capsys.readouterr()
    told = json.loads(said.out)
    assert (told["captures"], told["refused"], told["workers"]) == (5, 1, 2)
    assert "5 of 5 captures" in said.err
    table = pd.read_parquet(out).set_index("capture")
    assert len(table) == 5
    assert table.loc[str(archive / "bad.csv")].error.startswith("no table of numbers")
    for name in ("0.csv", "within/1.csv", "within/2.csv"):
        done = examine(*read_pair(archive / name)[:2])
        [channel], row = done.channels, table.loc[str(archive / name)]
        assert (row.low, row.high) == (channel.levels.low, channel.levels.high)
        assert (row.role, row.sensor, row.wheel, row.state) == ("crank", "hall", "60-2", "cranking")
        assert row.rpm_median == channel.as_row()["speed_rpm"]["median"]
        assert list(row.findings) == [finding.kind for finding in done.findings]
        for item in row.teeth:
            np.testing.assert_array_equal(item["value"], tooth_measures(channel.reading)[item["measure"]][0].by_place)
    beside = pd.read_parquet(tmp_path / "out.envelopes.parquet")
    sound = beside[(beside.measure == beside.measure.iloc[0]) & (beside.sensor == "hall")]
    assert set(sound.tooth) <= set(range(1, 59))
    assert (sound.low <= sound["median"]).all()
    assert (sound["median"] <= sound.high).all()
    assert not [path for path in tmp_path.iterdir() if ".part" in path.name]


@pytest.mark.long
def test_a_log_is_studied_on_a_named_scheduler(archive, tmp_path):
    from distributed import LocalCluster

    log = open_log(tmp_path / "log")
    job = log.add_job("Tarnbeck 4")
    capture, sheet, _ = read_pair(archive / "within" / "1.csv")
    done = examine(capture, sheet)
    log.add_capture(job.id, done.capture, capture_entry(done))
    log.close()
    with LocalCluster(
        n_workers=1, threads_per_worker=1, processes=True, dashboard_address=None, host="127.0.0.1"
    ) as cluster:
        found = study(str(tmp_path / "log"), tmp_path / "out.parquet", scheduler=cluster.scheduler_address)
    assert (found.captures, found.refused, found.workers) == (1, 0, 1)
    [row] = pd.read_parquet(tmp_path / "out.parquet").itertuples()
    assert (row.job, row.capture, list(row.findings)) == (job.id, "1.csv", [finding.kind for finding in done.findings])


def test_what_cannot_be_studied_is_told(tmp_path, monkeypatch):
    (tmp_path / "empty").mkdir()
    for name, said in ((tmp_path / "none", "no such folder"), (tmp_path / "empty", "holds no capture")):
        with pytest.raises(SagenError, match=said):
            sources_of(str(name))
    (tmp_path / "a.csv").write_text("Time (s),A\n0,1\n")
    monkeypatch.setattr("sagen.casework.study.ANSWERS_S", 0.5)
    with pytest.raises(SagenError, match="no scheduler answers"):
        study(str(tmp_path), tmp_path / "out.parquet", scheduler="tcp://127.0.0.1:1")
    monkeypatch.setattr(
        "sagen.casework.study.find_spec", lambda name: None if name == "distributed" else importlib.util.find_spec(name)
    )
    with pytest.raises(SagenError, match=r"\[study\]"):
        study(str(tmp_path), tmp_path / "out.parquet")
    assert not (tmp_path / "out.parquet").exists()
    assert main(["study", str(tmp_path), "-o", "x.csv"]) == 1
    assert main(["study", str(tmp_path), "--workers", "0"]) == 1
