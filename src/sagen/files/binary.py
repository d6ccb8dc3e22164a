"""MATLAB 5, HDF5, MDF4 and large NumPy archives, read with their own libraries. Runs only in the child process of `sandbox`."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path

import numpy as np

from sagen.files.arrays import capture_at, capture_of
from sagen.files.budget import Spent
from sagen.files.csv_dialect import spelled_out
from sagen.files.numpy_file import read_npz
from sagen.model.capture import Capture
from sagen.model.errors import CaptureFileError
from sagen.model.language import later, tr
from sagen.model.lazy import lazy

#: loaded when it is first asked: its import takes longer than most of what is done without it
scipy = lazy("scipy")
h5py = lazy("h5py")
asammdf = lazy("asammdf")

#: a formula of an MDF4 channel that is read: numbers, the raw value, + - * / and brackets
FORMULA = re.compile(r"(?!.*\*\*)[\sXx0-9.eE+\-*/()]{1,200}")
_PLAIN_NAME = re.compile(r"(?![\"\s])[^\x00-\x1f\x7f\\]{1,200}(?<!\s)")
MOST_NAMES = 4096  #: of an HDF5 file
DEEPEST = 8


def read_mat(path: Path) -> Capture:
    """Every numeric matrix of a MATLAB 5 file (also 4, 6, 7)."""
    wanted, spent = [], Spent(path)
    for name, shape, kind in scipy.io.whosmat(path):
        if kind not in ("cell", "struct", "object", "char", "function", "opaque", "sparse"):
            spent.claim(int(np.prod(shape, dtype=np.float64)) * 8, tr("matrix '{name}'", name=name))
            wanted.append(name)
    arrays = scipy.io.loadmat(path, variable_names=wanted, squeeze_me=False)
    return capture_of(path.name, {name: arrays[name] for name in wanted if np.isrealobj(arrays[name])})


def read_hdf5(path: Path) -> Capture:
    """Every numeric dataset, in groups too; links that lead out of the file are not followed."""
    arrays: dict[str, np.ndarray] = {}
    units: dict[str, str] = {}
    rate: dict[str, float] = {}
    spent = Spent(path)
    seen: set[int] = set()

    def walk(group, depth: int) -> None:
        _note_rate(group.attrs, rate)
        for name in group:
            link = group.get(name, getlink=True)
            if not isinstance(link, h5py.HardLink) or depth > DEEPEST:
                continue
            found = group[name]
            address = h5py.h5o.get_info(found.id).addr
            if address in seen:
                continue  # a link back, or a second name of the same
            seen.add(address)
            if len(seen) > MOST_NAMES:
                raise CaptureFileError(
                    tr(
                        "it holds more than {most_names} groups and datasets; that is no recording",
                        most_names=MOST_NAMES,
                    )
                )
            if isinstance(found, h5py.Group):
                walk(found, depth + 1)
            elif isinstance(found, h5py.Dataset) and found.dtype.kind in "iufb" and found.ndim <= 2:
                if found.external or found.is_virtual:
                    raise CaptureFileError(
                        tr("dataset '{name}' lies in another file; only files that hold all of it are read", name=name)
                    )
                spent.claim(found.size * found.dtype.itemsize, tr("dataset '{name}'", name=name))
                key = name if name not in arrays else found.name.strip("/")
                arrays[key] = found[()]
                _note_rate(found.attrs, rate)
                units[key] = _text(found.attrs.get("units", found.attrs.get("unit", "")))

    with h5py.File(path, "r") as file:
        walk(file, 0)
    return capture_of(path.name, {**arrays, **{key: np.array(value) for key, value in rate.items()}}, units=units)


def _note_rate(attributes, rate: dict[str, float]) -> None:
    for key in attributes:
        try:
            value = np.asarray(attributes[key])
        except (TypeError, OSError, ValueError):
            continue
        if value.size == 1 and value.dtype.kind in "iuf":
            rate.setdefault(key, float(value.ravel()[0]))


def _text(value: object) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)


def read_mdf4(path: Path) -> Capture:
    """The channel group with the most samples; channels of slower groups are laid on its times."""
    spent = Spent(path)
    with asammdf.MDF(path) as file:
        _only_plain_formulas(file)
        groups: dict[int, set[int]] = {}
        for places in file.channels_db.values():
            for group, index in places:
                groups.setdefault(group, set()).add(index)
        signals = []
        for group, members in groups.items():
            master = file.masters_db.get(group)
            picked = [(None, group, index) for index in sorted(members) if index != master]
            if picked:
                cycles = int(file.groups[group].channel_group.cycles_nr)
                spent.claim(cycles * 8 * len(picked), tr("channel group {group}", group=group + 1))
                signals += file.select(picked, ignore_value2text_conversions=True)
    signals = [
        this_signal
        for this_signal in signals
        if this_signal.samples.dtype.kind in "iufb" and this_signal.samples.ndim == 1 and len(this_signal.samples) > 1
    ]
    if not signals:
        raise CaptureFileError(tr("the MDF4 file holds no channel of numbers"))
    longest = max(signals, key=lambda this_signal: len(this_signal.samples))
    times, notes = longest.timestamps.astype(np.float64), []
    rows: list[tuple[str, np.ndarray, str]] = []
    for signal in signals:
        name = spelled_out(signal.name)
        samples = signal.samples
        if len(samples) != len(times) or not np.array_equal(signal.timestamps, longest.timestamps):
            samples = np.interp(times, signal.timestamps, samples).astype(np.float32)
            notes.append(
                later(
                    "channel '{name}' was recorded at other times and laid on those of '{name_2}'",
                    name=name,
                    name_2=longest.name,
                )
            )
        count = sum(name == other for other, _, _ in rows)
        if count:
            notes.append(
                later(
                    "another channel is called '{name}', too: this one is called '{name} ({count})' here",
                    name=name,
                    count=count + 1,
                )
            )
            name = f"{name} ({count + 1})"
        rows.append((name, samples, signal.unit or ""))
    return capture_at(path.name, times - times[0], rows, notes=notes)


def write_mdf4(path: Path, capture: Capture) -> None:
    """One channel group, float32 in SI units, times in s; what was not recorded is left out: the times tell."""
    there = capture.recorded
    times = np.flatnonzero(there) / capture.sfreq
    signals = [
        asammdf.Signal(
            channel.values()[there].astype(np.float32), times, unit=channel.unit,
            # The format has no empty names, and none with blanks at their ends or line breaks in them.
            name=channel.column if _PLAIN_NAME.fullmatch(channel.column) else json.dumps(channel.column),
        )
        for channel in capture.channels
    ]  # fmt: skip
    with asammdf.MDF(version="4.10") as file:
        file.append(signals, comment=f"capture {capture.name}", common_timebase=True)
        saved = Path(file.save(path, overwrite=True))
    if saved != path:
        saved.replace(path)  # it insists on its own suffix


def _only_plain_formulas(file) -> None:
    """Refuse channels whose values are computed by more than arithmetic: a file may not have the program evaluate it."""
    for group in file.groups:
        for channel in group.channels:
            formula = getattr(channel.conversion, "formula", None)
            if formula and not FORMULA.fullmatch(formula):
                raise CaptureFileError(
                    tr(
                        "channel '{name}' is computed by a formula with more than + - * /, which is not read",
                        name=str(channel.name)[:40],
                    )
                )


READERS: dict[str, Callable[[Path], Capture]] = {
    "MATLAB 5": read_mat, "HDF5": read_hdf5, "MDF4": read_mdf4,
    "NumPy archive": read_npz,
}  # fmt: skip
WRITERS: dict[str, Callable[[Path, Capture], None]] = {"MDF4": write_mdf4}


#: what a waiting process of `sandbox` imports before it is asked for anything
IMPORTS = {"MATLAB 5": ("scipy.io",), "HDF5": ("h5py",), "MDF4": ("asammdf",), "NumPy archive": ()}
