"""Random trails of every sort that the window can make: one sensor that turns, knock sensors that were tapped, several
circuits, with the machine's card and without it. Whoever writes a property of all trails draws from `trails`."""

from hypothesis import strategies as st
from tests.test_safe_and_sensible import records
from tests.test_whole_job import CAMS

from sagen.casework.demo import demo_card
from sagen.model.circuit import CircuitSpec
from sagen.model.finding import Finding
from sagen.model.sheet import Sheet
from sagen.model.trail import (
    CaptureEntry,
    CardEntry,
    CircuitEntry,
    CodeEntry,
    ComplaintEntry,
    InspectionEntry,
    NoteEntry,
    PartEntry,
    PlaceEntry,
    ProofEntry,
    ReadingEntry,
    RepairEntry,
    ReplacedEntry,
    ScanEntry,
    SeenEntry,
    StayedEntry,
    StepEntry,
    ValueEntry,
)
from sagen.model.vocabulary import FindingKind

TAPPED = {
    FindingKind.WEAK_STRIKE: {"ratio": 0.2}, FindingKind.RING_MISMATCH: {"frequency_hz": 6100.0},
    FindingKind.LOADED_DOWN: {"ratio": 0.5},
}  # fmt: skip


def taps(kind, place):
    """A capture of taps; `kind` is what it shows of the one sensor, None that it is sound."""
    rows = [{"column": "A", "role": "knock", "sensor": "piezo"}]
    sheet = Sheet.from_data({"conditions": {"state": "strike", "place": place}, "channel": rows}, where="test")
    found = (Finding(kind, "A", 0.85, TAPPED[kind], {}, (), said="x", said_sure="x"),) if kind else ()
    return CaptureEntry(f"taps-{kind}-{place}", sheet, findings=found)


#: what stands on a trail beside the evidence and must not change it, or what comes at its end
BESIDE = [
    NoteEntry("hose brittle"), PartEntry("gasket", price=3.5, lead_days=2.0), PlaceEntry("plug"),
    StepEntry("unbolted", "cover", owes="new seal"), SeenEntry("belt frayed"), StayedEntry(), StayedEntry(False),
    ProofEntry(("cleared",)), ScanEntry("rpm_cranking", 190.0), ScanEntry("codes_back", "never"), ValueEntry(("1", "2"), "ohm", 702.0),
]  # fmt: skip
beside = st.lists(st.sampled_from(BESIDE), max_size=2)

KNOCK = CircuitEntry(
    CircuitSpec(role="knock", sensor="piezo", bank=1, ohms=(4_700_000.0, 5_100_000.0)), circuit="knock 1"
)
ABOUT_KNOCK = [
    *map(CodeEntry, ("P0325", "P0327", "P0328")), ComplaintEntry("no_power"), KNOCK,
    *(ReadingEntry("ohms", "sensor", "unplugged", ohm) for ohm in (4.9e6, 310.0)),
    *(ReadingEntry("volts", "signal", "key_on_unplugged", volt) for volt in (2.5, 0.02)),
    InspectionEntry("look_at_the_sensors_in_place", ""), InspectionEntry("plug_and_pins", "damaged"),
    RepairEntry("sensor"), RepairEntry("harness"), ReplacedEntry("sensor", "aftermarket"),
    *(taps(kind, "front") for kind in (None, *TAPPED)),
]  # fmt: skip
knock = st.lists(st.sampled_from(ABOUT_KNOCK), min_size=1, max_size=5).map(
    lambda told: [CodeEntry("P0325"), KNOCK, *told]
)

ABOUT_CAMS = [
    ReadingEntry("volts", point, "key_on", value, circuit=f"cam {bank}")
    for bank in (1, 2) for point, value in (("supply", 0.03), ("supply", 12.1), ("ground", 0.02), ("ground", 1.3))
] + [RepairEntry("sensor", circuit="cam 1"), InspectionEntry("plug_and_pins", "damaged", circuit="cam 2")]  # fmt: skip
several = st.lists(st.sampled_from(ABOUT_CAMS), min_size=1, max_size=4).map(lambda told: [*CAMS, *told])

CARD = CardEntry(demo_card("curlew").as_data())
trails = st.builds(
    lambda told, card, more: [*([CARD] if card else []), *told, *more],
    st.one_of(records, knock, several), st.booleans(), beside,
)  # fmt: skip
