"""The same core without a screen."""

from __future__ import annotations

import argparse
import json
import logging
import sys
from collections.abc import Sequence

from sagen import __version__


def main(argv: Sequence[str] | None = None) -> int:
    """Entry point of `sagen`. Exit status: 0 all read, 1 some could not be, 2 wrong usage."""
    arguments = _parser().parse_args(argv)
    try:
        return arguments.run(arguments)
    except BrokenPipeError:
        # The reader of our output went away; there is nobody left to tell.
        sys.stderr.close()
        return 0
    except Exception as error:
        arguments.fail(arguments, _in_a_sentence(error))
        return 1
    except KeyboardInterrupt:
        return 130


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="sagen", description="From a sensor code to a proven repair. Without a command: the window."
    )
    parser.add_argument("--version", action="version", version=f"sagen {__version__}")
    parser.set_defaults(run=_window, fail=_say_what_failed, demo=False, files=[])
    verbs = parser.add_subparsers(metavar="COMMAND")
    window = verbs.add_parser("open", help="open the window and bring these captures in")
    window.add_argument("files", nargs="*", metavar="FILE")
    window.set_defaults(run=_window, demo=False)
    demo = verbs.add_parser("demo", help="open the window on made-up demo jobs")
    demo.set_defaults(run=_window, demo=True)
    examine = verbs.add_parser("examine", help="read captures and say what they show")
    examine.add_argument("files", nargs="+", metavar="FILE")
    examine.add_argument("--sheet", metavar="SHEET.toml", help="in place of NAME.sheet.toml beside each file")
    examine.add_argument("--json", action="store_true", help="one object a line and a file")
    examine.set_defaults(run=_examine)
    simulate = verbs.add_parser("simulate", help="what a recorder or a meter would see on the simulated machine")
    simulate.add_argument("circuit", metavar="CIRCUIT.toml")
    simulate.add_argument("--fault", action="append", default=[], metavar="NAME", help="may be given several times")
    simulate.add_argument("--severity", type=_share, default=0.7, metavar="0..1")
    simulate.add_argument("--state", default=None, help="cranking where not given; key_on for a meter")
    simulate.add_argument("--seconds", type=_positive, default=2.0)
    simulate.add_argument("--rate", type=_positive, default=50_000.0, metavar="HZ")
    simulate.add_argument("--seed", type=int, default=1)
    simulate.add_argument("-o", "--output", metavar="OUT.csv")
    simulate.add_argument("--meter", metavar="POINT")
    simulate.add_argument("--faults", action="store_true", help="list the fault modes that the circuit can have")
    simulate.add_argument("--json", action="store_true")
    simulate.set_defaults(run=_simulate, fail=_simulate_failed)
    reason = verbs.add_parser("reason", help="weigh jobs: suspects and the next best check")
    reason.add_argument("files", nargs="+", metavar="JOB.toml")
    reason.add_argument("--json", action="store_true", help="one object a line and a file")
    reason.set_defaults(run=_reason)
    meter = verbs.add_parser("meter", help="judge one meter reading against its limits")
    meter.add_argument("value", type=float, metavar="VALUE")
    meter.add_argument("unit", metavar="UNIT", help="ohm, kohm, Mohm, V, mV, A or mA")
    meter.add_argument("--limits", nargs=2, type=float, required=True, metavar=("LOW", "HIGH"))
    meter.add_argument("--at", type=float, default=20.0, metavar="C", help="temperature that the limits are for")
    meter.add_argument("--temperature", type=float, metavar="C", help="temperature of the part")
    meter.add_argument("--material", default="copper", help="copper or none")
    meter.add_argument("--leads", type=float, default=0.0, metavar="OHM")
    meter.add_argument("--accuracy", metavar='"0.8%% + 3 x 0.1"')
    meter.add_argument("--json", action="store_true")
    meter.set_defaults(run=_meter, fail=_meter_failed)
    convert = verbs.add_parser("convert", help="read a capture of any known format and write it as CSV, WAV or MDF4")
    convert.add_argument("file", metavar="FILE")
    convert.add_argument("-o", "--output", required=True, metavar="OUT.csv|OUT.wav|OUT.mf4")
    convert.set_defaults(run=_convert)
    report = verbs.add_parser("report", help="examine one capture and print the finding as HTML and PDF")
    report.add_argument("file", metavar="FILE")
    report.add_argument("--sheet", metavar="SHEET.toml")
    report.add_argument("-o", "--output", required=True, metavar="OUT.pdf|OUT.html")
    report.set_defaults(run=_report)
    return parser


def _in_a_sentence(error: Exception) -> str:
    """What went wrong; of something unforeseen, too, no traceback reaches the user, only a log that asks for it."""
    from sagen.model.errors import SagenError

    if isinstance(error, SagenError):
        return str(error)
    logging.getLogger("sagen").debug("unexpected", exc_info=error)
    return f"something unexpected went wrong ({type(error).__name__}: {error})"


def _say_what_failed(arguments: argparse.Namespace, message: str) -> None:
    """What is wrong, of a verb that reads one file; `examine` and `reason` go on with the next one instead."""
    print(f"{getattr(arguments, 'file', 'sagen')}: {message}", file=sys.stderr)


def _simulate_failed(arguments: argparse.Namespace, message: str) -> None:
    if arguments.json:
        print(json.dumps({"circuit": arguments.circuit, "error": message}))
    print(f"sagen simulate: {message}", file=sys.stderr)


def _meter_failed(arguments: argparse.Namespace, message: str) -> None:
    if arguments.json:
        print(json.dumps({"error": message}))
    else:
        print(f"sagen meter: {message}", file=sys.stderr)


def _share(text: str) -> float:
    value = float(text)
    if not 0 <= value <= 1:
        raise argparse.ArgumentTypeError(f"{text} is not from 0 to 1")
    return value


def _positive(text: str) -> float:
    value = float(text)
    if not 0 < value < 1e10:
        raise argparse.ArgumentTypeError(f"{text} is not a number above 0")
    return value


def _window(arguments: argparse.Namespace) -> int:
    from sagen.desk.app import run

    return run(demo=arguments.demo, files=arguments.files)


def _examine(arguments: argparse.Namespace) -> int:
    failed = False
    for name in arguments.files:
        try:
            examination, suspects = _examined(name, arguments.sheet)[2:4]
        except Exception as error:
            failed = True
            message = _in_a_sentence(error)
            print(
                json.dumps({"capture": name, "error": message})
                if arguments.json
                else f"{name}\n  cannot be read: {message}"
            )
            continue
        if arguments.json:
            row = {**examination.as_row(), "capture": name, "suspects": [one.as_row() for one in suspects]}
            print(json.dumps(row, ensure_ascii=False))
        else:
            _print_plain(name, examination, suspects)
        sys.stdout.flush()
    return 1 if failed else 0


def _examined(name: str, sheet_name: str | None):
    """Capture, sheet, examination and suspects of one file; raises SagenError."""
    from sagen.files import load_sheet, read_capture, read_sheet
    from sagen.reason.jobs import examined_piece
    from sagen.reason.sheets import spec_of
    from sagen.reason.weigh import Case, weigh
    from sagen.signal.examine import complete_sheet, examine

    sheet = load_sheet(sheet_name) if sheet_name else read_sheet(name)
    capture = read_capture(name)
    reference = _reference(sheet_name or name, sheet)
    examination = examine(capture, sheet, reference=reference)
    complete = complete_sheet(capture, sheet)
    spec = spec_of(complete, examination.findings)
    piece = examined_piece(examination.findings, complete, spec, capture.name, referenced=reference is not None)
    case = Case(spec, (piece,) if piece is not None else ())
    suspects, posterior = weigh(case)
    return capture, complete, examination, suspects, case, posterior


def _reference(beside: str, sheet):
    """The known-good capture that a sheet names, looked for beside it, with its own sheet."""
    from pathlib import Path

    from sagen.files import read_capture, read_sheet
    from sagen.model.errors import CaptureFileError

    if sheet is None or not sheet.reference:
        return None
    path = Path(beside).parent / sheet.reference
    try:
        return read_capture(path), read_sheet(path) or sheet
    except CaptureFileError as error:
        raise CaptureFileError(f"known-good capture '{sheet.reference}': {error}") from None


def _print_plain(name: str, examination, suspects) -> None:
    print(name)
    for one in examination.channels:
        row = one.as_row()
        speed = row["speed_rpm"]
        parts = [f"low {row['low']:.2f} {row['unit']}, high {row['high']:.2f} {row['unit']}"]
        if row["wheel"] and one.reading:
            parts.append(f"wheel {one.reading.wheel}")
        if speed:
            parts.append(f"{speed['median']:.0f} rpm ({speed['min']:.0f} to {speed['max']:.0f})")
        print(f"  {one.sheet.column} ({one.sheet.role}): {'; '.join(parts)}")
        if one.comparison:
            print(f"    {one.comparison.text}")
    if not examination.findings:
        print("  nothing wrong was found")
    for finding in examination.findings:
        print(f"  {finding.kind}: {finding.text}")
        if finding.sure:
            print(f"    to be sure: {finding.sure}")
    for note in examination.notes:
        print(f"  note: {note}")
    print(
        "  suspects: " + ", ".join(f"{one.fault} ({one.cause}) {100 * one.probability:.0f} %" for one in suspects[:3])
    )


def _report(arguments: argparse.Namespace) -> int:
    from pathlib import Path

    from sagen.reason.checks import next_checks
    from sagen.report.printed import Case, write_report

    capture, sheet, examination, suspects, weighed, posterior = _examined(arguments.file, arguments.sheet)
    checks = next_checks(weighed, posterior)
    case = Case(capture=capture, sheet=sheet, examination=examination, suspects=suspects, checks=checks)
    write_report(Path(arguments.output), case)
    return 0


def _simulate(arguments: argparse.Namespace) -> int:
    from pathlib import Path

    from sagen.files import sheet_path, write_capture, write_sheet
    from sagen.files.circuits import read_circuit
    from sagen.machine.faults import broken, possible
    from sagen.machine.meter import read
    from sagen.machine.record import MOST_SAMPLES, record
    from sagen.model.errors import SagenError, unknown_name

    engine, spec = read_circuit(arguments.circuit)
    if arguments.faults:
        for one in possible(spec):
            row = {"fault": one.name, "cause": one.cause, "changes": one.changes}
            print(json.dumps(row) if arguments.json else f"{one.name} ({one.cause}): {one.changes}")
        return 0
    machine = broken(spec, [(name, arguments.severity) for name in arguments.fault], arguments.seed)
    machine.cylinders = engine.cylinders or 4
    if arguments.meter:
        reading = read(machine, arguments.meter, arguments.state or "key_on")
        unit = "V" if reading.quantity == "volts" else "ohm"
        over = " (over range)" if reading.over_range else ""
        print(
            json.dumps(reading.as_row())
            if arguments.json
            else f"{reading.value:.4g} {unit} at {reading.point}, {reading.state}{over}"
        )
        return 0
    if not arguments.output:
        print("sagen simulate: give -o OUT.csv, --meter POINT or --faults", file=sys.stderr)
        return 2
    state = arguments.state or {"speed": "rolling", "knock": "strike"}.get(spec.role, "cranking")
    if state not in RECORDED_STATES:
        raise SagenError(unknown_name("state", state, RECORDED_STATES))
    if arguments.seconds * arguments.rate > MOST_SAMPLES:
        raise SagenError(f"{arguments.seconds:g} s at {arguments.rate:g} Hz are more than {MOST_SAMPLES:,} samples")
    output = Path(arguments.output)
    capture, sheet = record(
        machine, state, seconds=arguments.seconds, sfreq=arguments.rate, cylinders=machine.cylinders, name=output.name
    )
    write_capture(output, capture)
    write_sheet(sheet_path(output), sheet)
    return 0


#: states that can be recorded; a meter knows others
RECORDED_STATES = ("key_on", "cranking", "start", "running", "rolling", "strike", "wiggle", "metal_near", "metal_away")


def _convert(arguments: argparse.Namespace) -> int:
    from sagen.files import read_capture, read_sheet, sheet_path, write_capture, write_sheet

    sheet = read_sheet(arguments.file)
    write_capture(arguments.output, read_capture(arguments.file))
    if sheet is not None:
        write_sheet(sheet_path(arguments.output), sheet)
    return 0


def _reason(arguments: argparse.Namespace) -> int:
    from sagen.codes.lookup import beside
    from sagen.files.jobs import read_job
    from sagen.reason.checks import advice, next_checks
    from sagen.reason.jobs import case_of
    from sagen.reason.weigh import weigh

    failed = False
    for name in arguments.files:
        try:
            job = read_job(name)
            case = case_of(job)
            suspects, posterior = weigh(case)
            checks = next_checks(case, posterior)
        except Exception as error:
            failed = True
            said = _in_a_sentence(error)
            print(json.dumps({"job": name, "error": said}) if arguments.json else f"{name}\n  cannot be read: {said}")
            continue
        if arguments.json:
            row = {
                "job": name,
                "suspects": [one.as_row() for one in suspects],
                "next": [one.as_row() for one in checks[:12]],
            }
            print(json.dumps(row, ensure_ascii=False))
        else:
            print(name)
            for one in suspects[:5]:
                print(f"  {100 * one.probability:5.1f} %  {one.cause}: {one.fault}")
                for reason in one.reasons[:3]:
                    print(f"           {'for' if reason.bits > 0 else 'against'}: {reason.text}")
            for odd in (*beside(list(job.codes)), *posterior.odd):
                print(f"  note: {odd}")
            print(f"  {advice(case, posterior).text}")
            for one in checks[:3]:
                print(f"  next: {one.check.name} ({one.check.total_minutes:.0f} min). {one.why} Sound: {one.expect}")
        sys.stdout.flush()
    return 1 if failed else 0


def _meter(arguments: argparse.Namespace) -> int:
    from sagen.meter import Accuracy, judge

    accuracy = Accuracy.parse(arguments.accuracy) if arguments.accuracy else None
    verdict = judge(
        arguments.value, arguments.unit, *arguments.limits, at=arguments.at, temperature=arguments.temperature,
        material=arguments.material, leads=arguments.leads, accuracy=accuracy,
    )  # fmt: skip
    print(json.dumps(verdict.as_row(), ensure_ascii=False) if arguments.json else f"{verdict.verdict}: {verdict.text}")
    return 0
