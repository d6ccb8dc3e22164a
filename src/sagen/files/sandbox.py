"""Readers that run in a process of their own: a hostile file can then neither crash nor fill the program, and
the slow imports of MDF4, HDF5 and MATLAB never hold up the interface.

Of each format one process stays warm: it has imported its library, waits for a request on its standard input and
forks a child for each, with a budget of memory and of processor time (`budget`). The child writes planar .npy arrays and
a note of what they are into a passing folder; the parent maps them into memory and removes the names, so nothing is
copied and nothing stays behind. It ends with whoever asked: at Stop, and when the program is gone.
"""

from __future__ import annotations

import atexit
import json
import logging
import os
import resource
import select
import shutil
import signal
import subprocess
import sys
import threading
import time
import warnings
from collections.abc import Callable
from contextlib import suppress
from importlib import import_module
from pathlib import Path

import numpy as np

from sagen.artifacts.folders import passing_folder
from sagen.files import binary
from sagen.files.budget import MOST_SECONDS, Unwanted, is_wanted, memory_for, said
from sagen.model.capture import Capture
from sagen.model.errors import CaptureFileError, SagenError
from sagen.model.language import VARIABLE, spoken, tr
from sagen.model.text import as_utf8

LONGEST_S = 120  #: of a clock: what takes no processor waits for a disk
LOOK_S = 0.1  #: between two looks whether it is still wanted


def read_sandboxed(format_name: str) -> Callable[[Path], Capture]:
    """A reader that has a child process do `binary.READERS[format_name]`."""

    def read(path: Path) -> Capture:
        with passing_folder("read") as folder:
            _warm(format_name).ask("read", path.resolve(), folder)
            return unpacked(folder)

    return read


def write_sandboxed(format_name: str) -> Callable[[Path, Capture], None]:
    """A writer that has a child process do `binary.WRITERS[format_name]`."""

    def write(path: Path, capture: Capture) -> None:
        with passing_folder("write") as folder:
            packed(folder, capture)
            _warm(format_name).ask("write", path.resolve(), folder)

    return write


class SandboxedReader:
    """The waiting process of one format; started when it is first asked, and again when it died."""

    def __init__(self, format_name: str):
        self.format_name = format_name
        self._lock = threading.Lock()
        self._process: subprocess.Popen | None = None

    def ask(self, verb: str, path: Path, folder: Path) -> None:
        """Have one file read into, or written from, a folder; raises CaptureFileError with what was wrong, `Unwanted` where
        it was stopped."""
        request = json.dumps({"verb": verb, "path": os.fspath(path), "folder": os.fspath(folder)})
        wanted = True
        # Another file of this format may be in its hands for long: whoever waits for it can still be stopped.
        while not self._lock.acquire(timeout=LOOK_S):
            if not is_wanted():
                raise Unwanted(tr("reading it was stopped"))
        try:
            process = self._running()
            try:
                process.stdin.write(request.encode() + b"\n")
                process.stdin.flush()
                ready, ends = False, time.monotonic() + LONGEST_S
                while not ready and wanted and time.monotonic() < ends:
                    ready = bool(select.select([process.stdout], [], [], LOOK_S)[0])
                    wanted = is_wanted()
                line = process.stdout.readline() if ready else b""
            except OSError:
                ready, line = True, b""
            if not line:
                self.close()
        finally:
            self._lock.release()
        if not ready and not wanted:
            raise Unwanted(tr("reading it was stopped"))
        if not ready:
            raise CaptureFileError(
                tr(
                    "as {name} it took longer than {longest} s and was given up",
                    name=self.format_name,
                    longest=LONGEST_S,
                )
            )
        answer = json.loads(line) if line else {"status": -1, "said": ""}
        if answer["status"]:
            raise CaptureFileError(
                answer["said"] or tr("not a sound {name} file: its reader gave up", name=self.format_name)
            )

    def _running(self) -> subprocess.Popen:
        if self._process is None or self._process.poll() is not None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "sagen.files.sandbox", self.format_name],
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True,
                env={**os.environ, VARIABLE: spoken()},
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


_WARM: dict[str, SandboxedReader] = {}
_WARM_LOCK = threading.Lock()


def _warm(format_name: str) -> SandboxedReader:
    with _WARM_LOCK:
        if format_name not in _WARM:
            _WARM[format_name] = SandboxedReader(format_name)
        return _WARM[format_name]


@atexit.register
def close_all() -> None:
    """End every waiting process."""
    with _WARM_LOCK:
        for item in _WARM.values():
            item.close()
        _WARM.clear()


def packed(folder: Path, capture: Capture) -> None:
    """Lay a capture down in a folder."""
    for index, channel in enumerate(capture.channels):
        np.save(folder / f"{index}.npy", channel.raw, allow_pickle=False)
    (folder / "capture.json").write_text(json.dumps(capture.about()), encoding="utf-8")


def unpacked(folder: Path) -> Capture:
    """The capture in a folder, its samples mapped."""
    about = json.loads((folder / "capture.json").read_text(encoding="utf-8"))
    files = [folder / f"{index}.npy" for index in range(len(about["channels"]))]
    return Capture.of(about, (np.load(file, mmap_mode="r", allow_pickle=False) for file in files))


# the waiting process ------------------------------------------------------------------------


def serve(format_name: str) -> None:
    """Answer requests from standard input, a line each, until it ends."""
    warnings.simplefilter("ignore")
    logging.disable(logging.CRITICAL)
    threading.Thread(target=_end_with_the_asker, daemon=True).start()
    # Libraries print; what they print must not be taken for an answer.
    answers = os.fdopen(os.dup(1), "wb", buffering=0)
    os.dup2(2, 1)
    for line in sys.stdin.buffer:
        request = json.loads(line)
        _FOLDER[:] = [request["folder"]]
        # Only now, though it takes long: a program that is gone by then leaves a folder that is known.
        for library in binary.IMPORTS[format_name]:
            import_module(library)
        answers.write(json.dumps(_in_a_child(format_name, request)).encode() + b"\n")


#: what is being worked in, and by whom
_FOLDER: list[str] = []
_CHILD: list[int] = []


def _end_with_the_asker() -> None:
    """When the program is gone, however it went, this process, its child and what they were working in go, too."""
    gone = select.poll()
    gone.register(0, 0)  # only that the other end was closed
    gone.poll()
    for child in _CHILD:  # before its folder, or it would write on into it
        with suppress(ProcessLookupError):
            os.kill(child, signal.SIGKILL)
    for item in _FOLDER:
        shutil.rmtree(item, ignore_errors=True)
    os.killpg(0, signal.SIGKILL)


def _in_a_child(format_name: str, request: dict) -> dict:
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        status = 3
        try:  # whatever happens, the child must not go on as another one that waits
            os.close(reading)
            status, said = _do(format_name, request["verb"], Path(request["path"]), Path(request["folder"]))
            os.write(writing, as_utf8(said).encode()[:2000])
        finally:
            os._exit(status)
    _CHILD[:] = [child]
    os.close(writing)
    with os.fdopen(reading, "rb") as stream:
        said = stream.read().decode("utf-8", "replace")
    _, status = os.waitpid(child, 0)
    _CHILD.clear()
    if os.WIFSIGNALED(status) and os.WTERMSIG(status) == signal.SIGXCPU:
        said = tr(
            "as {name} it took more than {most} s of processor and was given up", name=format_name, most=MOST_SECONDS
        )
    return {"status": status, "said": said}


def _do(format_name: str, verb: str, path: Path, folder: Path) -> tuple[int, str]:
    """The child's work: 0, or 3 with one line for the user."""
    room = (
        memory_for(path.stat().st_size)
        if verb == "read"
        else memory_for(sum(this_path.stat().st_size for this_path in folder.iterdir()))
    )
    # Above what libraries take of the address space already.
    taken = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (taken + room, taken + room))
    resource.setrlimit(resource.RLIMIT_CPU, (MOST_SECONDS, MOST_SECONDS + 5))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    full = tr(
        "the {name} file would fill more memory than a file of its size may ({room})", name=format_name, room=said(room)
    )
    try:
        if verb == "read":
            packed(folder, binary.READERS[format_name](path))
        else:
            binary.WRITERS[format_name](path, unpacked(folder))
        return 0, ""
    except SagenError as error:
        told = str(error)
    except MemoryError:
        told = full
    except Exception as error:
        first = (getattr(error, "strerror", None) or str(error) or type(error).__name__).splitlines()[0][:100]
        short = "memory" in first.lower() or "alloc" in first.lower()
        told = full if short else tr("not a sound {name} file: {first}", name=format_name, first=first)
    return 3, told


if __name__ == "__main__":
    serve(sys.argv[1])
