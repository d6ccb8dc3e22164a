"""A job of the log as a job file: what the window shows of it is what `sagen reason` says of the file, to the digit."""

import json
import tempfile
from pathlib import Path

import pytest
from hypothesis import given
from tests.test_cli import sagen
from tests.trails import trails

from conftest import demo_log, full_jobs
from sagen.casework.examination import with_captures_read
from sagen.casework.headless import weighed_file
from sagen.casework.job_toml import job_toml
from sagen.casework.weigh_job import weigh_job
from sagen.files.jobs import read_job
from sagen.model.errors import SheetError
from sagen.model.job import Entry, Job
from sagen.model.trail import CardEntry, CircuitEntry, ComplaintEntry, NoteEntry, PartEntry, ProofEntry, ReadingEntry
from sagen.reason.several import circuits_of


def said(told):
    """All of a diagnosis: who is suspect and how sure, what is next, what must not be done, what does not fit, what is owed."""
    return {
        "suspects": [(item.cause, item.fault, item.circuit, float(item.probability)) for item in told.suspects],
        "next": [(item.check.slug, item.circuit, item.text, item.why, item.expect) for item in told.checks],
        "notes": told.notes,
        "owed": told.owed,
        **told.as_row(),
    }


def test_every_demo_job_comes_back_to_the_digit(tmp_path, few):
    log = demo_log()
    for machine, job in few(full_jobs(log).items()):
        path = tmp_path / "job.toml"
        path.write_text(job_toml(job))
        assert said(weighed_file(path).diagnosis) == said(weigh_job(job).diagnosis), machine
    number = next(iter(full_jobs(log).values())).id
    place = Path(str(log.database.place.folder))
    log.close()
    done = sagen("--log", place, "log", "export", number, "--toml", "-o", tmp_path / "x.toml")
    assert done.returncode == 0
    assert "suspects" in json.loads(sagen("reason", tmp_path / "x.toml", "--json").stdout)


@given(trails)
def test_any_trail_comes_back_as_it_was(trail):
    told = (ComplaintEntry("no_start", 'it "stops" \\ here\n[[trail]]'), *trail, NoteEntry("ü \U0001f527 = 1"))
    job = Job(1, None, "Brindle [2]", "", 4, tuple(Entry(k, None, item) for k, item in enumerate(told, 1)))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "job.toml"
        path.write_text(job_toml(job))
        back = read_job(path)
        read = with_captures_read(back.trail, path.parent, back.circuit, 4)
    # Circuits and the card stand at the head of a file; what was said twice of them stands there once.
    assert circuits_of(read) == circuits_of(told)
    heads = (CircuitEntry, CardEntry)
    assert [item for item in read if not isinstance(item, heads)] == [
        item for item in told if not isinstance(item, heads)
    ]
    assert {id(type(item)) for item in read} == {id(type(item)) for item in told}


def test_what_a_workshop_writes_down_beside_readings_is_read(tmp_path):
    """Units from NIST SP 811, B.8 (from memory): 1 psi is 6.894757 kPa."""
    path = tmp_path / "job.toml"
    path.write_text(
        '[circuit]\nrole = "crank"\nsensor = "reluctance"\n'
        '[[published]]\nmaker = "Orrin"\nbetween = ["signal", "ground"]\nlow = 860.0\nhigh = 1020.0\n'
        '[[trail]]\nreading = "volts"\npoint = "battery"\nstate = "cranking"\nvalue = 10.4\n'
        '[[trail]]\nbench = "counts"\npulses = 9\npasses = 12\npart = "own"\n'
        '[[trail]]\nbench = "counts"\npulses = 12\npasses = 12\npart = "new"\n'
        '[[trail]]\napart = "cover off"\nowes = "new seal"\n[[trail]]\nphoto = "plug.jpg"\n'
        '[[trail]]\npressure = "45 psi"\n[[trail]]\npressure = 310.0\n'
    )
    job = read_job(path)
    assert job.circuit.ohms == (860.0, 1020.0)
    card, battery, own, new, apart, photo, psi, kpa = job.trail
    assert card.machine.circuit[0].published[0].maker == "Orrin"
    assert (battery.between, battery.value, battery.quantity) == (("battery",), 10.4, "V")
    assert (own.check, own.outcome) == ("sensor_in_the_hand", "misses_some")
    assert "new part" in new.text.lower()
    assert (apart.step, apart.what, apart.owes) == ("apart", "cover off", "new seal")
    assert photo.caption == "plug.jpg"
    assert abs(psi.value - 45 * 6.894757) < 1e-6
    assert (kpa.value, kpa.quantity) == (310.0, "kPa")
    assert weighed_file(path).diagnosis.suspects[0].probability > 0


@pytest.mark.parametrize(
    ("row", "said"),
    [
        ('bench = "counts"\npulses = 3\npasses = 12', "part"),
        ('bench = "counts"\npulses = 3\npasses = 2\npart = "own"', "2 passes"),
        ('bench = "count"\npulses = 3\npasses = 12\npart = "own"', "did you mean 'counts'"),
        ('pressure = "45 furlong"', "45 furlong"),
        ('pressure = "psi"', "psi"),
        ('photo = ""', "names no file"),
        ('apart = "cover"\nplace = "boot"', "place"),
        ('inspection = "plug and pins"\noutcome = "purple"', "outcome of 'plug and pins'"),
        ('reading = "ohms"\npoint = "battery"\nstate = "key_on"\nvalue = 1.0', "a battery has volts"),
    ],
)
def test_a_short_form_that_makes_no_sense_is_refused_in_a_sentence(tmp_path, row, said):
    path = tmp_path / "job.toml"
    path.write_text(f'[circuit]\nrole = "crank"\nsensor = "hall"\n[[trail]]\n{row}\n')
    with pytest.raises(SheetError) as told:
        read_job(path)
    assert said in str(told.value)
    assert "trail entry 1" in str(told.value)


def test_the_forms_of_a_trail_are_read_and_a_stored_one_is_checked(tmp_path):
    head = '[circuit]\nrole = "crank"\nsensor = "hall"\n'
    rows = (
        '[[trail]]\nnote = "oil in the plug"\n[[trail]]\nproof = ["codes_cleared", "relearned"]\n'
        '[[trail]]\ndrive = { km = 12.0, minutes = 20.0, conditions = "hot" }\n'
        '[[trail]]\npart_line = { name = "crank sensor", price = 41.5 }\n'
    )
    path = tmp_path / "job.toml"
    path.write_text(head + rows)
    note, proof, drive, part = read_job(path).trail[-4:]
    assert note == NoteEntry("oil in the plug")
    assert isinstance(proof, ProofEntry)
    assert [str(step) for step in proof.done] == ["cleared", "relearn"]
    assert drive.drive["km"] == 12.0
    assert isinstance(part, PartEntry)
    assert part.price == 41.5
    path.write_text(
        head
        + '[[trail]]\nrecord = "reading"\nversion = 3\ndata = { reading = "volts", point = "nowhere", state = "key_on", value = 1.0 }\n'
    )
    said = sagen("reason", path).stdout
    assert "trail entry 1" in said
    assert "nowhere" in said


@pytest.mark.parametrize("missing", ["point", "reading"])
def test_an_entry_without_what_it_needs_says_what_is_missing(missing):
    told = {"point": "signal", "state": "key_on", "reading": {}}
    with pytest.raises(ValueError, match=f"^{missing} is missing$"):
        ReadingEntry.of({name: value for name, value in told.items() if name != missing})
