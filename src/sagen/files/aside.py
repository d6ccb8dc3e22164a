"""Readers that run in a process of their own: a hostile file can then neither crash nor fill the program, and
the slow imports of MDF4, HDF5 and MATLAB never hold up the interface.

Of each format one process stays warm: it has imported its library, waits for a request on its standard input and
forks a child for each. The child writes planar .npy arrays and a note of what they are into a passing folder; the
parent maps them into memory and removes the names, so nothing is copied and nothing stays behind.
"""

from __future__ import annotations

import atexit
import json
import os
import select
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np

from sagen.files.arrays import MOST_BYTES
from sagen.model.capture import Capture
from sagen.model.errors import CaptureFileError, SagenError

LONGEST_S = 300
MEMORY = MOST_BYTES + (4 << 30)


def read_aside(format_name: str) -> Callable[[Path], Capture]:
    """A reader that has a child process do `binary.READERS[format_name]`."""

    def read(path: Path) -> Capture:
        folder = Path(tempfile.mkdtemp(prefix="sagen-read-"))
        try:
            _warm(format_name).ask("read", path.resolve(), folder)
            return unpacked(folder)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    return read


def write_aside(format_name: str) -> Callable[[Path, Capture], None]:
    """A writer that has a child process do `binary.WRITERS[format_name]`."""

    def write(path: Path, capture: Capture) -> None:
        folder = Path(tempfile.mkdtemp(prefix="sagen-write-"))
        try:
            packed(folder, capture)
            _warm(format_name).ask("write", path.resolve(), folder)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    return write


class _Warm:
    """The waiting process of one format; started when it is first asked, and again when it died."""

    def __init__(self, format_name: str):
        self.format_name = format_name
        self._lock = threading.Lock()
        self._process: subprocess.Popen | None = None

    def ask(self, verb: str, path: Path, folder: Path) -> None:
        """Have one file read into, or written from, a folder; raises CaptureFileError with what was wrong."""
        request = json.dumps({"verb": verb, "path": os.fspath(path), "folder": os.fspath(folder)})
        with self._lock:
            process = self._running()
            try:
                process.stdin.write(request.encode() + b"\n")
                process.stdin.flush()
                ready, _, _ = select.select([process.stdout], [], [], LONGEST_S)
                line = process.stdout.readline() if ready else b""
            except OSError:
                ready, line = True, b""
            if not line:
                self.close()
        if not ready:
            raise CaptureFileError(f"as {self.format_name} it took longer than {LONGEST_S} s and was given up")
        answer = json.loads(line) if line else {"status": -1, "said": ""}
        if answer["status"]:
            raise CaptureFileError(answer["said"] or f"not a sound {self.format_name} file: its reader gave up")

    def _running(self) -> subprocess.Popen:
        if self._process is None or self._process.poll() is not None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "sagen.files.aside", self.format_name],
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True,
            )  # fmt: skip
        return self._process

    def close(self) -> None:
        """End the process and the child that it may have."""
        process, self._process = self._process, None
        if process is not None:
            try:
                os.killpg(process.pid, signal.SIGKILL)
            except OSError:
                process.kill()
            process.stdin.close()
            process.stdout.close()
            process.wait()


_WARM: dict[str, _Warm] = {}
_WARM_LOCK = threading.Lock()


def _warm(format_name: str) -> _Warm:
    with _WARM_LOCK:
        if format_name not in _WARM:
            _WARM[format_name] = _Warm(format_name)
        return _WARM[format_name]


@atexit.register
def close_all() -> None:
    """End every waiting process."""
    with _WARM_LOCK:
        for one in _WARM.values():
            one.close()
        _WARM.clear()


def packed(folder: Path, capture: Capture) -> None:
    """Lay a capture down in a folder."""
    for index, one in enumerate(capture.channels):
        np.save(folder / f"{index}.npy", one.raw, allow_pickle=False)
    (folder / "capture.json").write_text(json.dumps(capture.about()), encoding="utf-8")


def unpacked(folder: Path) -> Capture:
    """The capture in a folder, its samples mapped."""
    about = json.loads((folder / "capture.json").read_text(encoding="utf-8"))
    files = [folder / f"{index}.npy" for index in range(len(about["channels"]))]
    return Capture.of(about, (np.load(one, mmap_mode="r", allow_pickle=False) for one in files))


# the waiting process ------------------------------------------------------------------------


def serve(format_name: str) -> None:
    """Answer requests from standard input, a line each, until it ends."""
    import logging
    import warnings

    from sagen.files import binary

    warnings.simplefilter("ignore")
    logging.disable(logging.CRITICAL)
    binary.IMPORTS[format_name]()
    # Libraries print; what they print must not be taken for an answer.
    answers = os.fdopen(os.dup(1), "wb", buffering=0)
    os.dup2(2, 1)
    for line in sys.stdin.buffer:
        request = json.loads(line)
        answers.write(json.dumps(_in_a_child(format_name, request)).encode() + b"\n")


def _in_a_child(format_name: str, request: dict) -> dict:
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(reading)
        status, said = _do(format_name, request["verb"], Path(request["path"]), Path(request["folder"]))
        os.write(writing, said.encode()[:2000])
        os._exit(status)
    os.close(writing)
    with os.fdopen(reading, "rb") as stream:
        said = stream.read().decode("utf-8", "replace")
    _, status = os.waitpid(child, 0)
    return {"status": status, "said": said}


def _do(format_name: str, verb: str, path: Path, folder: Path) -> tuple[int, str]:
    """The child's work: 0, or 3 with one line for the user."""
    import resource

    from sagen.files import binary

    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        if verb == "read":
            packed(folder, binary.READERS[format_name](path))
        else:
            binary.WRITERS[format_name](path, unpacked(folder))
        return 0, ""
    except SagenError as error:
        said = str(error)
    except MemoryError:
        said = f"the {format_name} file would fill more memory than is allowed ({MEMORY >> 30} GiB)"
    except OSError as error:
        said = f"not a sound {format_name} file, or the disk refused: {error.strerror or str(error).splitlines()[0]}"
    except Exception as error:
        said = f"not a sound {format_name} file: {(str(error) or type(error).__name__).splitlines()[0]}"
    return 3, said


if __name__ == "__main__":
    serve(sys.argv[1])
