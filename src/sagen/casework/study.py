"""An archive examined: thousands of captures of a folder or a job log, on all cores or on a cluster, to Parquet.

One code path: Dask's distributed scheduler hands out batches; where no scheduler is named, a local cluster of one process a
core is started for the while. What a batch answers is plain rows, so workers need Sagen and the archive, and nothing else.
"""

from __future__ import annotations

import logging
import os
import time
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from sagen.artifacts.atomic import atomic_write
from sagen.casework.examination import read_pair
from sagen.files.format_registry import capture_suffixes
from sagen.files.long_record import is_long
from sagen.kinds import examine
from sagen.model.errors import SagenError
from sagen.model.language import tr
from sagen.model.lazy import lazy
from sagen.model.sheet import Sheet
from sagen.model.text import as_utf8
from sagen.model.trail import CaptureEntry
from sagen.signal.catalogue import usual_name
from sagen.signal.measures import tooth_measures
from sagen.store.opening import open_log

#: what only a study needs, and may not be installed
dask, distributed = lazy("dask"), lazy("distributed")
pa, parquet = lazy("pyarrow"), lazy("pyarrow.parquet")

if TYPE_CHECKING:
    from sagen.store.log import JobLog

AT_ONCE = 4  #: captures of a batch
AHEAD = 6  #: batches that a worker has waiting: a cluster is not handed an archive of a million at once
MOST_DEEP = 12  #: folders within folders
ANSWERS_S = 10  #: that a named scheduler may take to answer
LEAST_ENVELOPE = 2  #: captures that an envelope needs
SHARES = (0.05, 0.5, 0.95)


@dataclass(frozen=True)
class Source:
    """One capture of an archive: a file, or what a job of a log names by `token`."""

    name: str
    log: str = ""
    job: int | None = None
    token: str = ""
    sheet: dict | None = None


@dataclass(frozen=True)
class Studied:
    """What a study came to."""

    captures: int
    refused: int
    channels: int
    seconds: float
    workers: int
    table: str
    envelopes: str

    def as_row(self) -> dict:
        return {
            "captures": self.captures, "refused": self.refused, "channels": self.channels, "seconds": round(self.seconds, 2),
            "workers": self.workers, "table": self.table, "envelopes": self.envelopes,
        }  # fmt: skip


# what there is -------------------------------------------------------------------------------------------


def sources_of(name: str) -> list[Source]:
    """Every capture of a folder (folders within it, too; links to folders are not followed) or of a job log.

    Raises
    ------
    SagenError
        where there is no such archive, or it holds no capture.
    """
    folder = Path(name)
    if "://" in name or (folder / "jobs.sqlite").is_file():
        found = _of_log(name)
    elif folder.is_dir():
        found = _of_folder(folder)
    else:
        raise SagenError(tr("there is no such folder or log"))
    if not found:
        raise SagenError(tr("holds no capture"))
    return found


def _of_folder(folder: Path) -> list[Source]:
    suffixes = capture_suffixes()
    found = []
    for here, within, names in os.walk(folder):
        place = Path(here)
        if len(place.relative_to(folder).parts) >= MOST_DEEP:
            within.clear()
        long = [item for item in within if is_long(place / item)]
        within[:] = sorted(item for item in within if item not in long and not item.startswith("."))
        names = [name for name in names if Path(name).suffix.lower() in suffixes and not name.startswith(".")]
        found += [Source(str(place / name)) for name in sorted([*names, *long])]
    return found


def _of_log(name: str) -> list[Source]:
    found, log = [], _open(name)
    for summary in reversed(log.jobs()):
        for entry in log.job(summary.id).of(CaptureEntry):
            sheet = entry.record.sheet.model_dump(mode="json", exclude_none=True)
            found.append(Source(entry.record.name, name, summary.id, entry.record.token, sheet))
    return found


#: logs that this process has open
_LOGS: dict[str, JobLog] = {}


def _open(name: str) -> JobLog:
    if name not in _LOGS:
        _LOGS[name] = open_log(name)
    return _LOGS[name]


# one batch, in a worker ----------------------------------------------------------------------------------


def examined_rows(batch: Iterable[Source]) -> list[dict]:
    """A row a channel of each capture; one row with what is wrong, of a capture that cannot be read. Never raises for what a
    capture holds."""
    rows = []
    for source in batch:
        try:
            rows += _rows(source)
        except SagenError as error:
            rows.append(_row(source, error=str(error)))
        except Exception as error:  # one odd capture must not end the study of thousands
            rows.append(_row(source, error=tr("something unexpected went wrong ({name})", name=type(error).__name__)))
    return rows


def _row(source: Source, **more: Any) -> dict:
    return {"capture": as_utf8(source.name), "job": source.job, **more}


def _rows(source: Source) -> list[dict]:
    if source.log:
        capture, sheet, reference = (
            _open(source.log).capture(source.token),
            Sheet.from_data(source.sheet, where="sheet"),
            None,
        )
    else:
        capture, sheet, reference = read_pair(source.name)
    done = examine(capture, sheet, reference=reference)
    rows = []
    for channel in done.channels:
        found = [finding for finding in done.findings if finding.channel == channel.sheet.column]
        reading = channel.reading
        speed = reading.speed_range() if reading else None
        teeth = tooth_measures(reading) if reading is not None and reading.wheel is not None else {}
        rows.append(_row(
            source, channel=channel.sheet.column, role=str(channel.sheet.role), sensor=str(channel.sheet.sensor or ""),
            state=str(done.sheet.conditions.state or ""), unit=channel.unit, sfreq_hz=capture.sfreq, seconds=capture.seconds,
            low=float(channel.levels.low), high=float(channel.levels.high),
            wheel=usual_name(reading.wheel) if reading is not None and reading.wheel is not None else "",
            **{f"rpm_{key}": float(speed[key]) for key in ("median", "min", "max") if speed},
            findings=[str(finding.kind) for finding in found], severities=[float(finding.severity) for finding in found],
            teeth=[
                {"measure": name, "number": [int(k) for k in table.number], "value": [float(v) for v in table.by_place]}
                for name, (table, _) in teeth.items()
            ],
        ))  # fmt: skip
    return rows


# the whole -----------------------------------------------------------------------------------------------


def study(
    name: str,
    out: Path,
    *,
    workers: int | None = None,
    scheduler: str | None = None,
    progress: Callable[[int, int], None] = lambda done, of: None,
) -> Studied:
    """Examine an archive and write two Parquet files: a row a channel, and the envelopes of each kind of circuit.

    Parameters
    ----------
    name : folder, or log as `--log` names it
    out : the first file; the second has `.envelopes` before its suffix
    workers : processes of the local cluster; None: one a core
    scheduler : address of a Dask scheduler; None: a local cluster, for the while
    progress : told captures done and captures in all

    Raises
    ------
    SagenError
        for no archive, no cluster, no such package, or a disk that refuses; neither file is touched then.
    """
    _needs("dask", "distributed", "pyarrow")
    began, sources = time.monotonic(), sources_of(name)
    batches = [sources[k : k + AT_ONCE] for k in range(0, len(sources), AT_ONCE)]
    beside = out.with_name(f"{out.stem}.envelopes{out.suffix}")
    kinds: dict[tuple, list[dict]] = defaultdict(list)
    refused = channels = 0
    with (
        _cluster(workers, scheduler) as client,
        atomic_write(out) as passing,
        atomic_write(beside) as passing_beside,
    ):
        count = len(client.scheduler_info()["workers"])
        with parquet.ParquetWriter(passing, _schema()) as writer:
            for done, rows in _in_turn(client, batches, count):
                refused += sum("error" in row for row in rows)
                channels += sum("error" not in row for row in rows)
                writer.write_table(_table(rows, _schema()))
                for this_row in rows:
                    for table in this_row.get("teeth", ()):
                        kinds[
                            this_row["role"], this_row["sensor"], this_row["wheel"], this_row["state"], table["measure"]
                        ].append(table)
                progress(min(done * AT_ONCE, len(sources)), len(sources))
        parquet.write_table(_table(list(_envelopes(kinds)), _envelope_schema()), passing_beside)
    return Studied(len(sources), refused, channels, time.monotonic() - began, count, str(out), str(beside))


NEEDED = tr(
    "packages that are not installed here (dask, distributed, pyarrow): `./run setup` brings them, or pip install -e "
    "'.[study]'"
)


def _needs(*packages: str) -> None:
    """Raise SagenError where a package that only a study needs is not installed."""
    if any(find_spec(name) is None for name in packages):
        raise SagenError(tr("a study needs {needed}", needed=NEEDED))


@contextmanager
def _cluster(workers: int | None, scheduler: str | None) -> Iterator[Any]:
    """A client of the named scheduler, or of a cluster of this machine's own that ends with it."""
    logging.getLogger("distributed").setLevel(logging.ERROR)
    if scheduler:
        try:
            client = distributed.Client(scheduler, timeout=ANSWERS_S)
        except (OSError, ValueError, TimeoutError) as error:
            raise SagenError(
                tr("no scheduler answers at {scheduler} ({name})", scheduler=scheduler[:60], name=type(error).__name__)
            ) from None
        try:
            if not client.scheduler_info()["workers"]:
                raise SagenError(tr("the scheduler at {scheduler} has no workers", scheduler=scheduler[:60]))
            yield client
        finally:
            client.close()
        return
    # One thread a process, in every library: the processes take the cores already.
    settings = {
        "distributed.nanny.pre-spawn-environ": dict.fromkeys(("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS"), "1"),
        "distributed.worker.daemon": False,  # readers of hostile formats have a process of their own
    }
    local = distributed.LocalCluster  # brings in the defaults that the settings stand beside
    with (
        dask.config.set(settings),
        local(
            n_workers=workers or os.cpu_count() or 1, threads_per_worker=1, processes=True, dashboard_address=None,
            host="127.0.0.1",
        ) as cluster,
        distributed.Client(cluster) as client,
    ):  # fmt: skip
        yield client


def _in_turn(client: Any, batches: list[list[Source]], workers: int) -> Iterator[tuple[int, list[dict]]]:
    """What each batch came to, in whichever order they are done, with how many are."""
    left = iter(batches)
    first = [
        client.submit(examined_rows, item, pure=False) for _, item in zip(range(AHEAD * workers), left, strict=False)
    ]
    coming = distributed.as_completed(first, with_results=True)
    for done, (_, rows) in enumerate(coming, start=1):
        for this_item in left:
            coming.add(client.submit(examined_rows, this_item, pure=False))
            break
        yield done, rows


def _envelopes(kinds: dict[tuple, list[dict]]) -> Iterator[dict]:
    """Every tooth of each kind of circuit over all captures: how many, and where their middle and their ends lie."""
    for key, tables in sorted(kinds.items()):
        if len(tables) < LEAST_ENVELOPE:
            continue
        numbers = np.concatenate([table["number"] for table in tables])
        values = np.concatenate([table["value"] for table in tables])
        for tooth in np.unique(numbers):
            low, middle, high = np.quantile(values[numbers == tooth], SHARES)
            role, sensor, wheel, state, measure = key
            yield {
                "role": role, "sensor": sensor, "wheel": wheel, "state": state, "measure": measure, "tooth": int(tooth),
                "captures": int(np.sum(numbers == tooth)), "low": float(low), "median": float(middle), "high": float(high),
            }  # fmt: skip


def _schema():
    teeth = pa.struct({"measure": pa.string(), "number": pa.list_(pa.int32()), "value": pa.list_(pa.float64())})
    return pa.schema({
        "capture": pa.string(), "job": pa.int64(), "error": pa.string(), "channel": pa.string(), "role": pa.string(),
        "sensor": pa.string(), "state": pa.string(), "wheel": pa.string(), "unit": pa.string(), "sfreq_hz": pa.float64(),
        "seconds": pa.float64(), "low": pa.float64(), "high": pa.float64(), "rpm_median": pa.float64(), "rpm_min": pa.float64(),
        "rpm_max": pa.float64(), "findings": pa.list_(pa.string()), "severities": pa.list_(pa.float64()), "teeth": pa.list_(teeth),
    })  # fmt: skip


def _envelope_schema():
    words = dict.fromkeys(("role", "sensor", "wheel", "state", "measure"), pa.string())
    counts = dict.fromkeys(("tooth", "captures"), pa.int64())
    return pa.schema({**words, **counts, **dict.fromkeys(("low", "median", "high"), pa.float64())})


def _table(rows: list[dict], schema):
    return pa.Table.from_pylist([{name: row.get(name) for name in schema.names} for row in rows], schema)
