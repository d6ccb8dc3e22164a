"""The printed finding of one capture: machine, complaint, codes, waveform, levels, verdict, what next."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from importlib.resources import files

import numpy as np

from sagen import __version__
from sagen.kinds import ChannelResult, Examination
from sagen.model.capture import Capture
from sagen.model.finding import Suspect
from sagen.model.language import figure, lowered, said_date, spoken, titled, tr, trn
from sagen.model.lazy import lazy
from sagen.model.sheet import Sheet
from sagen.model.text import as_utf8
from sagen.model.vocabulary import Cause
from sagen.model.words import CAUSES, FINDING_TITLES, SENSORS, STATES, surely
from sagen.reason.checks import NextCheck
from sagen.report.beside import EDGE_HEADS, BesideScene
from sagen.report.beside_plot import beside_svg
from sagen.report.plot import LONGEST_MARK, lane_svg
from sagen.report.scene import Lane, Strip
from sagen.signal.catalogue import usual_name
from sagen.signal.tapped import Tapped

#: loaded when it is first asked: its import takes longer than most of what is done without it
jinja2 = lazy("jinja2")
weasyprint = lazy("weasyprint")


@dataclass(frozen=True)
class TapsPart:
    """The taps of a job as a table: a row a sensor; and the same taps before and after its repair, where both are."""

    rows: tuple[tuple[str, ...], ...]
    said: tuple[str, ...]
    missing: tuple[str, ...] = ()
    load: str = ""
    before_after: tuple[tuple[str, ...], ...] = ()
    decision: str = ""


@dataclass(frozen=True)
class FindingPage:
    """Everything that goes on the page."""

    examination: Examination
    scene: Strip
    suspects: tuple[Suspect, ...]
    checks: tuple[NextCheck, ...]
    machine: str = ""
    owner: str = ""
    workshop: str = ""
    complaint: str = ""
    codes: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()  #: what must not be done now, and what does not fit
    taps: TapsPart | None = None  #: what the taps of a knock job say together
    beside: Mapping[str, BesideScene] = field(default_factory=dict)  #: by column, where there is a known-good one
    remarks: tuple[str, ...] = ()  #: how the known-good captures fit, and what is beyond them together
    made: datetime = field(default_factory=datetime.now)

    @property
    def capture(self) -> Capture:
        return self.examination.capture

    @property
    def sheet(self) -> Sheet:
        return self.examination.sheet


def in_language(environment: jinja2.Environment) -> jinja2.Environment:
    """An environment whose templates speak the language of the program."""
    environment.globals.update(tr=tr, figure=figure, said_date=said_date, language=spoken())
    return environment


def render_html(page: FindingPage) -> str:
    """The report as one self-contained HTML page."""
    environment = in_language(
        jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    )
    template = environment.from_string(files("sagen.report").joinpath("finding.html").read_text(encoding="utf-8"))
    return as_utf8(
        template.render(
            case=page,
            version=__version__,
            verdict=_verdict(page),
            channels=[_channel_part(page, channel) for channel in page.examination.channels],
            suspects=[suspect for suspect in page.suspects if suspect.probability >= 0.02][:4],
            check=page.checks[0] if page.checks else None,
            later=page.checks[1:3],
            cautions=sorted({caution for check in page.checks[:3] for caution in check.check.cautions}),
            causes=CAUSES,
            surely=surely,
            titles=FINDING_TITLES,
            state=STATES[page.sheet.conditions.state],
        )
    )


def render_pdf(html: str) -> bytes:
    """The HTML report as PDF. Nothing is fetched: only the shipped fonts and pictures in the page are used."""
    folder = files("sagen.report").joinpath("fonts")
    in_page = weasyprint.urls.URLFetcher(allowed_protocols=["data"])
    shipped = weasyprint.urls.URLFetcher(allowed_protocols=["file", "data"])
    font_config = weasyprint.text.fonts.FontConfiguration()
    faces = "".join(
        f"@font-face{{font-family:'{family}';font-weight:{weight};src:url('{folder.joinpath(name).as_uri()}')}}"
        for family, weight, name in (
            ("B612", 400, "B612-Regular.otf"),
            ("B612", 700, "B612-Bold.otf"),
        )
    )
    style = weasyprint.CSS(string=faces, font_config=font_config, url_fetcher=shipped)
    return weasyprint.HTML(string=html, url_fetcher=in_page).write_pdf(stylesheets=[style], font_config=font_config)


def _verdict(page: FindingPage) -> str:
    top = page.suspects[0] if page.suspects else None
    if not page.examination.findings:
        return tr("This capture shows nothing wrong.")
    first = FINDING_TITLES[page.examination.findings[0].kind]
    if top is None or top.cause == Cause.NONE:
        return f"{first}."
    return tr(
        "{first}. Most likely {cause}: {title} ({probability}).",
        first=first,
        cause=lowered(CAUSES[top.cause]),
        title=top.title,
        probability=surely(top.probability),
    )


def _channel_part(page: FindingPage, result: ChannelResult) -> dict:
    """One channel's row of figures and its pictures."""
    lane = next(this_lane for this_lane in page.scene.lanes if this_lane.column == result.sheet.column)
    pictures = [(tr("The whole capture"), _picture(page.scene, lane, 0.0, page.capture.seconds))]
    scene = page.beside.get(result.sheet.column)
    closer = _closer(page, result) if scene is None else None  # beside the known-good one it is near already
    if closer:
        pictures.append((tr("A closer look"), _picture(page.scene, lane, *closer)))
    reading = result.reading
    tapped = page.examination.tapped
    struck = result.strikes is not None and tapped is not None
    return {
        "row": result.as_row(),
        "name": lane.name,
        "sensor": SENSORS.get(result.sheet.sensor or "", ""),
        "wheel": usual_name(reading.wheel) if reading and reading.wheel else "",
        "expected": reading.expected if reading else None,
        "comparison": result.comparison,
        "struck": _struck(tapped, result.sheet.column) if struck else None,
        "pictures": pictures,
        **_beside(scene),
    }


#: edges that are printed, those that differ most of more
MOST_EDGES = 16


def _beside(scene: BesideScene | None) -> dict:
    """The picture beside the known-good one, and the edges that differ."""
    if scene is None:
        return {"beside": "", "edges": (), "of_edges": ""}
    shown = scene.edges
    if len(shown) > MOST_EDGES:
        shown = [edge for edge in scene.edges if edge.plain]
        worst = sorted(shown, key=lambda edge: -abs(edge.difference))[:MOST_EDGES]
        shown = [edge for edge in shown if edge in worst]
    what = {"tooth": ("tooth", "teeth")}.get(scene.what, (scene.what, scene.what + "s"))
    plain = sum(edge.plain for edge in scene.edges)
    told = trn(
        "{number} of {edges} {what} differs by more than chance",
        "{number} of {edges} {what} differ by more than chance",
        max(plain, 1),
        number=plain if plain else tr("none"),
        edges=len(scene.edges),
        what=what[1],
    )
    return {
        "beside": _as_uri(beside_svg(scene)),
        "edges": [(edge.row(), edge.plain) for edge in shown],
        "edge_heads": (titled(what[0]), *EDGE_HEADS),
        "of_edges": titled(told) + "." if scene.edges else "",
    }


def _struck(tapped: Tapped, column: str) -> dict:
    """How a knock channel answers, in figures."""
    strikes, sensor = tapped.strikes, tapped.strikes.columns.index(column)
    good, ring = strikes.answers.good[:, sensor], tapped.rings[sensor]
    height = float(np.median(strikes.answers.height[good, sensor])) if good.any() else None
    return {
        "answered": int(strikes.answers.heard[:, sensor].sum()), "strikes": len(strikes),
        "height": tr("{height:.3g} {unit}", height=height, unit=strikes.unit) if height is not None else tr("none"),
        "ring": tr("{value:,.0f} Hz", value=ring.value) if ring.known else tr("not read"),
    }  # fmt: skip


def _closer(page: FindingPage, result: ChannelResult) -> tuple[float, float] | None:
    """About a turn around the first mark, or the middle of the capture."""
    if result.strikes is not None and page.examination.tapped is not None and len(page.examination.tapped.strikes):
        first = float(page.examination.tapped.strikes.time_s[0])
        return max(0.0, first - 0.0008), min(page.capture.seconds, first + 0.006)
    if result.reading is None or len(result.reading.teeth.times) < 4:
        return None
    times = result.reading.teeth.times
    spans = [
        span
        for finding in page.examination.findings
        if finding.channel == result.sheet.column
        for span in finding.spans
        if span.end_s - span.start_s < LONGEST_MARK * page.capture.seconds
    ]
    middle = 0.5 * (spans[0].start_s + spans[0].end_s) if spans else float(times[len(times) // 2])
    slots = result.reading.wheel.slots if result.reading.wheel else 20
    reach = 0.4 * slots * float(times[-1] - times[0]) / len(times)
    return max(0.0, middle - reach), min(page.capture.seconds, middle + reach)


def _picture(strip: Strip, lane: Lane, start_s: float, end_s: float) -> str:
    return _as_uri(lane_svg(strip, lane, start_s=start_s, end_s=end_s))


def _as_uri(svg: str) -> str:
    return "data:image/svg+xml;base64," + base64.b64encode(as_utf8(svg).encode()).decode()
