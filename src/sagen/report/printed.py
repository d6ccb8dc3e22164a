"""The printed finding of one capture: machine, complaint, codes, waveform, levels, verdict, what next."""

from __future__ import annotations

import base64
from dataclasses import dataclass, field
from datetime import datetime
from importlib.resources import files
from pathlib import Path

from sagen import __version__
from sagen.model.capture import Capture
from sagen.model.errors import CaptureFileError, SagenError
from sagen.model.finding import Suspect
from sagen.model.sheet import Sheet
from sagen.model.words import CAUSES, FINDING_TITLES, ROLES, SENSORS, STATES
from sagen.reason.checks import NextCheck
from sagen.report.plot import Mark, waveform_svg
from sagen.signal.examine import ChannelResult, Examination
from sagen.signal.rules_level import expected_bands

MOST_MARKS = 60


@dataclass(frozen=True)
class Case:
    """Everything that goes on the page."""

    capture: Capture
    sheet: Sheet
    examination: Examination
    suspects: tuple[Suspect, ...]
    checks: tuple[NextCheck, ...]
    machine: str = ""
    owner: str = ""
    workshop: str = ""
    complaint: str = ""
    codes: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    made: datetime = field(default_factory=datetime.now)


def render_html(case: Case) -> str:
    """The report as one self-contained HTML page."""
    from jinja2 import Environment, StrictUndefined

    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    template = environment.from_string(files("sagen.report").joinpath("finding.html").read_text(encoding="utf-8"))
    return template.render(
        case=case,
        version=__version__,
        verdict=_verdict(case),
        channels=[_channel_part(case, one) for one in case.examination.channels],
        suspects=[one for one in case.suspects if one.probability >= 0.02][:4],
        check=case.checks[0] if case.checks else None,
        later=case.checks[1:3],
        cautions=sorted({one for check in case.checks[:3] for one in check.check.cautions}),
        causes=CAUSES,
        titles=FINDING_TITLES,
        state=STATES[case.sheet.conditions.state],
    )


def render_pdf(html: str) -> bytes:
    """The HTML report as PDF. Nothing is fetched: only the shipped fonts and pictures in the page are used."""
    from weasyprint import CSS, HTML
    from weasyprint.text.fonts import FontConfiguration
    from weasyprint.urls import URLFetcher

    folder = files("sagen.desk").joinpath("fonts")
    in_page = URLFetcher(allowed_protocols=["data"])
    shipped = URLFetcher(allowed_protocols=["file", "data"])
    fonts = FontConfiguration()
    faces = "".join(
        f"@font-face{{font-family:'{family}';font-weight:{weight};src:url('{folder.joinpath(name).as_uri()}')}}"
        for family, weight, name in (
            ("B612", 400, "B612-Regular.otf"),
            ("B612", 700, "B612-Bold.otf"),
            ("B612 Mono", 400, "B612Mono-Regular.otf"),
        )
    )
    style = CSS(string=faces, font_config=fonts, url_fetcher=shipped)
    return HTML(string=html, url_fetcher=in_page).write_pdf(stylesheets=[style], font_config=fonts)


def write_report(path: Path, case: Case) -> None:
    """Write the report as the suffix of `path` says, .html or .pdf.

    Raises
    ------
    SagenError
        for another suffix or a disk that refuses.
    """
    suffix = path.suffix.lower()
    if suffix not in (".html", ".pdf"):
        raise SagenError(f"a report is written as .html or .pdf, not '{path.suffix}'")
    html = render_html(case)
    data = html.encode() if suffix == ".html" else render_pdf(html)
    save_whole(path, data)


def save_whole(path: Path, data: bytes) -> None:
    """Write a file under a passing name and rename it, so that no half of it is left behind."""
    passing = path.with_name(f".{path.name}.part")
    try:
        passing.write_bytes(data)
        passing.replace(path)
    except OSError as error:
        passing.unlink(missing_ok=True)
        raise CaptureFileError(f"{path} cannot be written: {error.strerror or error}") from None


def _verdict(case: Case) -> str:
    top = case.suspects[0] if case.suspects else None
    if not case.examination.findings:
        return "This capture shows nothing wrong."
    first = FINDING_TITLES[case.examination.findings[0].kind]
    if top is None or top.cause == "none":
        return f"{first}."
    return f"{first}. Most likely {CAUSES[top.cause].lower()}: {top.fault} ({100 * top.probability:.0f} %)."


def _channel_part(case: Case, result: ChannelResult) -> dict:
    """One channel's row of figures and its pictures."""
    channel = case.capture.channel(result.sheet.column)
    own = [one for one in case.examination.findings if one.channel == result.sheet.column]
    marks = [
        Mark(span.start_s, span.end_s, FINDING_TITLES.get(one.kind, one.kind) if index == 0 else "")
        for one in own
        for index, span in enumerate(one.spans[:MOST_MARKS])
        if span.end_s - span.start_s < 0.5 * case.capture.seconds
    ]
    bands = expected_bands(result.reading, case.sheet.conditions.state) if result.reading else ()
    pictures = [("The whole capture", _picture(channel, case, 0.0, case.capture.seconds, marks, bands))]
    closer = _closer(case, result, marks)
    if closer:
        pictures.append(("A closer look", _picture(channel, case, *closer, marks, bands)))
    row = result.as_row()
    return {
        "row": row,
        "role": ROLES[result.sheet.role],
        "sensor": SENSORS.get(result.sheet.sensor or "", ""),
        "wheel": str(result.reading.wheel) if result.reading and result.reading.wheel else "",
        "expected": result.reading.expected if result.reading else None,
        "comparison": result.comparison,
        "pictures": pictures,
    }


def _closer(case: Case, result: ChannelResult, marks: list[Mark]) -> tuple[float, float] | None:
    """About a turn around the first mark, or the middle of the capture."""
    if result.reading is None or len(result.reading.teeth.times) < 4:
        return None
    times = result.reading.teeth.times
    middle = 0.5 * (marks[0].start_s + marks[0].end_s) if marks else float(times[len(times) // 2])
    slots = result.reading.wheel.slots if result.reading.wheel else 20
    reach = 0.4 * slots * float(times[-1] - times[0]) / len(times)
    return max(0.0, middle - reach), min(case.capture.seconds, middle + reach)


def _picture(channel, case: Case, start_s: float, end_s: float, marks, bands) -> str:
    svg = waveform_svg(
        channel, case.capture.sfreq, start_s=start_s, end_s=end_s, marks=tuple(marks), bands=tuple(bands)
    )
    return "data:image/svg+xml;base64," + base64.b64encode(svg.encode()).decode()
