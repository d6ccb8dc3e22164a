"""Sound files of every kind that the program reads, and ways to break them."""

import io
import json
import sqlite3
from pathlib import Path

import numpy as np

from conftest import square_teeth
from sagen.casework.examination import examine
from sagen.files import write_capture
from sagen.files.cards import read_card, read_rows
from sagen.files.circuits import read_circuit
from sagen.files.format_registry import read_capture
from sagen.files.jobs import read_job
from sagen.files.photos import read_photo
from sagen.files.sheets import load_sheet
from sagen.model.capture import Capture, Channel
from sagen.model.sheet import Sheet
from sagen.model.trail import CaptureEntry, CodeEntry, NoteEntry
from sagen.store import moving
from sagen.store.opening import open_log

SHEET = """reference = "good.csv"
[engine]
cylinders = 4
[conditions]
state = "cranking"
[[channel]]
column = "CH1"
role = "crank"
sensor = "hall"
wheel = "60-2"
pull_up = 5.0
factor = 1
"""
JOB = """codes = ["P0335", "U0100"]
complaints = ["no_start"]
gear = ["meter"]
[engine]
cylinders = 4
[circuit]
role = "crank"
sensor = "hall"
supply = 12
pull_up = 5
wheel = "60-2"
[[trail]]
reading = "volts"
point = "signal"
state = "key_on_unplugged"
value = 4.97
accuracy = "0.8% + 3"
[[trail]]
finding = "dropout"
severity = 0.4
share = 0.1
"""
CIRCUIT = """[engine]
cylinders = 6
[circuit]
role = "cam"
sensor = "reluctance"
wheel = "36-1"
[circuit.values]
gap = 0.9
"""
ROWS = "circuit,from,to,state,quantity,low,high\ncrank,1,2,unplugged,ohms,500,900\n"


def _capture(seconds):
    volts = square_teeth(seconds=seconds)
    return Capture("a", 50_000.0, (Channel("CH1", volts.astype(np.float32)), Channel("CH 2", volts[::-1].copy())))


def _captures(folder, seconds):
    for suffix in ("csv", "npz", "wav", "mf4"):
        write_capture(folder / f"a.{suffix}", _capture(seconds))
    import h5py
    from scipy.io import savemat

    arrays = {channel.column.replace(" ", "_"): channel.values() for channel in _capture(seconds).channels}
    with h5py.File(folder / "a.h5", "w") as file:
        file.attrs["sfreq"] = 50_000.0
        for name, array in arrays.items():
            file.create_dataset(f"scope/{name}", data=array, compression="gzip", chunks=True)
    savemat(folder / "a.mat", {**arrays, "sfreq": 50_000.0}, do_compression=True)
    times = np.arange(_capture(seconds).samples) / 50_000.0
    np.save(folder / "a.npy", np.column_stack([times, _capture(seconds).channels[0].values()]))


def seeds(folder: Path, seconds: float = 0.4) -> dict[str, bytes]:
    """The bytes of a sound file of each kind, by its name; captures last so long."""
    from PIL import Image

    _captures(folder, seconds)
    log = open_log(folder / "log")
    job = log.add_job("Tarnbeck 4", owner="J. Doyle")
    log.add_entry(job.id, CodeEntry("P0335"))
    log.add_capture(job.id, _capture(seconds), CaptureEntry("a", Sheet.from_data({}, where="seed")))
    log.add_entry(job.id, NoteEntry("gap 0.9 mm"))
    moving.export_job(log, job.id, folder / "job.zip")
    moving.backup(log, folder / "backup.zip")
    log.close()
    with sqlite3.connect(folder / "log" / "jobs.sqlite") as rows:
        rows.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    photo = io.BytesIO()
    Image.fromarray(np.arange(3 * 64 * 64, dtype=np.uint8).reshape(64, 64, 3)).save(photo, "JPEG")
    card = Path(__file__).parents[2] / "src/sagen/casework/demo_cards/curlew.toml"
    return {
        **{path.name: path.read_bytes() for path in sorted(folder.glob("a.*")) if "sheet" not in path.name},
        "a.sheet.toml": SHEET.encode(), "a.job.toml": JOB.encode(), "a.circuit.toml": CIRCUIT.encode(),
        "a.card.toml": card.read_bytes(), "a.rows.csv": ROWS.encode(), "a.jpg": photo.getvalue(),
        "job.zip": (folder / "job.zip").read_bytes(), "backup.zip": (folder / "backup.zip").read_bytes(),
        "jobs.sqlite": (folder / "log" / "jobs.sqlite").read_bytes(),
    }  # fmt: skip


# reading -------------------------------------------------------------------------------------------------


def _all_of_capture(path):
    capture = read_capture(path)
    for channel in capture.channels:
        assert np.isfinite(channel.values()).all(), "what was read holds what is no number"
    examine(capture, None)
    for suffix in (".csv", ".npz"):
        write_capture(path.with_name(f"out{suffix}"), capture)


def _log_of(path):
    log = open_log(path.parent)
    try:
        for job in log.jobs():
            log.job(job.id)
        moving.check(log, repair=True)
    finally:
        log.close()


def _import(path):
    log = open_log(path.parent / "into")
    try:
        moving.import_job(log, path)
    finally:
        log.close()


def _restore(path):
    moving.restore(path, path.parent / "restored")
    _log_of(path.parent / "restored" / "jobs.sqlite")


#: what is done with a file, by the end of its name; the first that fits
DOORS = {
    ".sheet.toml": load_sheet, ".job.toml": read_job, ".circuit.toml": read_circuit, ".card.toml": read_card,
    ".rows.csv": read_rows, ".jpg": read_photo, "job.zip": _import, "backup.zip": _restore, "jobs.sqlite": _log_of,
    "": _all_of_capture,
}  # fmt: skip


def read_any(path: Path) -> None:
    """Do with a file what the program does with one of its kind."""
    next(door for end, door in DOORS.items() if path.name.endswith(end))(path)


# breaking ------------------------------------------------------------------------------------------------

NUMBERS = (
    b"1e308", b"-1e308", b"nan", b"inf", b"-0", b"1e-320", b"9" * 4400, b"0x1f", b"1_000", b"\xd9\xa3", b"--1", b"1e999999999",
)  # fmt: skip
WORDS = (
    b"<script>alert(1)</script>", b"=HYPERLINK(1)", b"../../etc/passwd", b"\x1b[2J", b"\xe2\x80\xae", b"\x00", b"\xff\xfe",
    b"{{7*7}}", b"%s%n", b"a" * 10_000, b"\r\n", b"[" * 3000, b'"""', b"\xc2\x85", b"\x0c", b"'; drop table job; --",
)  # fmt: skip
EXTREMES = (0, 1, 0x7F, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF, 0x7FFFFFFFFFFFFFFF, 0xFFFFFFFFFFFFFFFF)


def mutated(rng: np.random.Generator, data: bytes, others: list[bytes]) -> bytes:
    """The bytes with one thing wrong, or a few."""
    for _ in range(rng.geometric(0.65)):
        data = WAYS[rng.integers(len(WAYS))](rng, data, others) or b"\n"
    return data


def _spot(rng, data):
    # Heads say what the rest is: half of the changes go there.
    return int(rng.integers(min(len(data), 400) if rng.random() < 0.5 else len(data)))


def _flip(rng, data, _others):
    out = bytearray(data)
    for _ in range(rng.integers(1, 9)):
        out[_spot(rng, data)] ^= 1 << rng.integers(8)
    return bytes(out)


def _fill(rng, data, _others):
    at, count = _spot(rng, data), int(rng.integers(1, 64))
    kind = rng.integers(3)
    filling = rng.bytes(count) if kind == 0 else bytes([0 if kind == 1 else 255]) * count
    return data[:at] + filling + data[at + count :]


def _cut(rng, data, _others):
    return data[: _spot(rng, data)]


def _drop(rng, data, _others):
    at = _spot(rng, data)
    return data[:at] + data[at + int(rng.integers(1, 200)) :]


def _twice(rng, data, _others):
    at = _spot(rng, data)
    return data[:at] + data[at : at + int(rng.integers(1, 2000))] * int(rng.integers(2, 6)) + data[at:]


def _extreme(rng, data, _others):
    at, size = _spot(rng, data), int(rng.choice([1, 2, 4, 8]))
    value = EXTREMES[rng.integers(len(EXTREMES))] & ((1 << 8 * size) - 1)
    return data[:at] + value.to_bytes(size, "little" if rng.random() < 0.5 else "big") + data[at + size :]


def _splice(rng, data, others):
    other = others[rng.integers(len(others))]
    at, there = _spot(rng, data), _spot(rng, other)
    return data[:at] + other[there : there + int(rng.integers(1, 4000))] + data[at:]


def _token(rng, data, _others):
    # A word or a number of a text, in the place of another or before it.
    starts = [k for k in range(1, min(len(data), 3000)) if data[k - 1 : k] in (b" ", b",", b'"', b"=", b"\n", b"[")]
    if not starts:
        return data
    at = starts[rng.integers(len(starts))]
    end = at
    while end < len(data) and data[end : end + 1] not in (b" ", b",", b'"', b"\n", b"]"):
        end += 1
    odd = NUMBERS if rng.random() < 0.5 else WORDS
    return data[:at] + odd[rng.integers(len(odd))] + data[end if rng.random() < 0.7 else at :]


def _lines(rng, data, _others):
    lines = data.split(b"\n")
    at = int(rng.integers(min(len(lines), 40)))
    way = rng.integers(3)
    if way == 0:
        lines.insert(at, lines[int(rng.integers(len(lines)))])
    elif way == 1:
        del lines[at]
    else:
        lines[at] = lines[at][::-1]
    return b"\n".join(lines)


WAYS = (_flip, _fill, _cut, _drop, _twice, _extreme, _splice, _token, _token, _lines)


def damaged_rows(rng: np.random.Generator, path: Path) -> None:
    """One to five cells of a job log's database set to what does not belong there."""
    odd = [
        None,
        b"\xff\x00",
        "",
        "yesterday",
        -1,
        1 << 62,
        1e308,
        "[" * 2000,
        json.dumps({"text": [1]}),
        "{}",
        "\ud7ff",
    ]
    with sqlite3.connect(path) as rows:
        rows.execute("PRAGMA foreign_keys=OFF")
        for _ in range(rng.integers(1, 6)):
            table = ("job", "entry")[rng.integers(2)]
            names = [item[1] for item in rows.execute(f"PRAGMA table_info({table})") if not item[5]]
            value = odd[rng.integers(len(odd))]
            try:
                rows.execute(f"update {table} set {names[rng.integers(len(names))]} = ?", (value,))
            except sqlite3.IntegrityError:
                continue
