"""`sagen record --from tcp://HOST:PORT --seconds S -o OUT.npz`: stream from a recorder that a profile describes.

What comes is on the disk at once, in a folder that grows beside OUT; written as what OUT says at the end. A signal to end
(Ctrl+C, and what a closed terminal or a shut-down sends) ends the recording; what came until then is kept.
"""

from __future__ import annotations

import json
import signal
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from sagen.artifacts.atomic import writable
from sagen.artifacts.leases import remove_whole
from sagen.casework.events import hunt
from sagen.casework.recording import Happened, Recording
from sagen.cli import positive
from sagen.files import can_be_written, write_capture
from sagen.files.long_record import SUFFIX
from sagen.instruments.profile import read_profile
from sagen.instruments.scpi import ScpiRecorder
from sagen.model.errors import SagenError
from sagen.model.language import tr

ENDS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


def arguments(parser) -> None:
    parser.add_argument(
        "--from", dest="file", required=True, metavar="ADDRESS", help=tr("tcp://HOST:PORT, serial:///dev/NAME")
    )
    parser.add_argument("--seconds", type=positive, required=True)
    parser.add_argument("--rate", type=positive, help=tr("samples a second, where the instrument can be told"))
    parser.add_argument("--state", help=tr("told to a stand-in: cranking, running ..."))
    parser.add_argument(
        "--profile", metavar="PROFILE.toml", help=tr("in place of the one found by the instrument's name")
    )
    parser.add_argument(
        "--patience", type=positive, default=10.0, metavar="S", help=tr("how long an instrument may be gone")
    )
    parser.add_argument(
        "-o",
        "--output",
        required=True,
        metavar="OUT.npz",
        help=tr("NAME.record is a folder that grows on disk, for hours"),
    )
    parser.add_argument("--json", action="store_true", help=tr("an object a line and an event"))
    parser.set_defaults(run=run, fail=_failed)


def run(arguments) -> int:
    output = Path(arguments.output)
    grown = _growing(output)
    profile = read_profile(arguments.profile) if arguments.profile else None
    recorder = ScpiRecorder(arguments.file, profile, arguments.rate, arguments.state)

    def told(happened: Happened) -> None:
        _print(
            arguments,
            happened.as_row(),
            tr("{at_s:9.3f} s  {kind}: {said}", at_s=happened.at_s, kind=happened.kind, said=happened.said),
        )

    recording = Recording(output.name, recorder, told, folder=grown)
    with _ended_by_signals(recorder.stop):
        try:
            capture = recording.run(arguments.seconds, arguments.patience)
        except SagenError:
            if not recording.samples:
                remove_whole(grown)
            raise
        finally:
            recorder.close()
        if grown != output:
            try:
                write_capture(output, capture)
            except SagenError as error:
                raise SagenError(tr("{error}; what was recorded lies in {grown}", error=error, grown=grown)) from None
        for event in hunt(capture):
            _print(
                arguments,
                event.as_row(),
                tr("{start_s:9.3f} s  {kind}: {text}", start_s=event.start_s, kind=event.kind, text=event.text),
            )
        if grown != output:
            remove_whole(grown)
    if not arguments.json:
        print(tr("written: {output}", output=output), file=sys.stderr)
    return 1 if recording.gone else 0


def _growing(output: Path) -> Path:
    """The folder that grows while it is recorded.

    Raises
    ------
    SagenError
        where it, or what is to become of it, cannot be written: before the first sample, not after the last.
    """
    if output.suffix != SUFFIX:
        can_be_written(output)
    grown = output if output.suffix == SUFFIX else output.with_name(output.name + SUFFIX)
    if grown.exists():
        left = "" if grown == output else tr(": an earlier recording that was not written; `sagen convert` writes it")
        raise SagenError(tr("{grown} is there already{left}", grown=grown, left=left))
    writable(grown)
    return grown


@contextmanager
def _ended_by_signals(stop: Callable[[], None]) -> Iterator[None]:
    """A signal to end asks the recorder to stop; a second one ends the program."""

    def heed(number, _frame) -> None:
        for each in ENDS:
            signal.signal(each, before[each])
        stop()

    before = {number: signal.signal(number, heed) for number in ENDS}
    try:
        yield
    finally:
        for number in ENDS:
            signal.signal(number, before[number])


def _print(arguments, row: dict, words: str) -> None:
    with suppress(OSError):  # whoever read along may be gone, with the terminal: the recording goes on
        print(json.dumps(row) if arguments.json else words, flush=True)


def _failed(arguments, message: str) -> None:
    if arguments.json:
        print(json.dumps({"from": arguments.file, "error": message}))
    print(tr("sagen record: {message_}", message_=message), file=sys.stderr)
