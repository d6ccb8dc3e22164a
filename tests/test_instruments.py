"""Instruments on the wire: against a plain socket, IEEE 488.2 blocks, scapy's OBD layers, and stand-ins that misbehave."""

from __future__ import annotations

import json
import signal
import socket
import subprocess
import sys
import threading
import time
from contextlib import suppress

import numpy as np
import pytest

from sagen.casework.recording import Recording
from sagen.files import read_capture, write_capture
from sagen.instruments import obd
from sagen.instruments.module_stand_in import ModuleStandIn
from sagen.instruments.profile import Profile, parse_profile, shipped_profile
from sagen.instruments.protocols import Block
from sagen.instruments.scpi import Garbled, InstrumentGone, Link, SampleCount, ScpiMeter, ScpiRecorder, resource_name
from sagen.instruments.served import Bench, StandInServers, block_of
from sagen.kinds import broken
from sagen.machine.meter import read
from sagen.model.circuit import CircuitSpec
from sagen.model.errors import SagenError
from sagen.model.vocabulary import State

SPEC = CircuitSpec(role="crank", sensor="hall", supply=12.0, pull_up=5.0, wheel="60-2")
CIRCUIT = '[engine]\ncylinders = 4\n[circuit]\nrole = "crank"\nsensor = "hall"\nsupply = 12.0\npull_up = 5.0\nwheel = "60-2"\n'


@pytest.fixture
def served():
    made = []

    def serve(kind="recorder", *misbehave, fault=(), fast=True, machine=None) -> str:
        servers = StandInServers(
            Bench(machine or broken(SPEC, list(fault), 4), misbehave=frozenset(misbehave), fast=fast)
        )
        made.append(servers)
        return f"tcp://127.0.0.1:{servers.serve(kind)}"

    yield serve
    for item in made:
        item.close()


class Other:
    """The other side by hand: a plain socket that answers what it was told to."""

    def __init__(self, answers: dict[str, bytes]):
        self.answers, self.heard = answers, []
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.address = f"tcp://127.0.0.1:{self.socket.getsockname()[1]}"
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                line, _ = self.socket.accept()
            except OSError:
                return
            threading.Thread(target=self._talk, args=(line,), daemon=True).start()

    def _talk(self, line) -> None:
        with suppress(OSError), line, line.makefile("rb") as stream:
            for raw in stream:
                asked = raw.decode().strip()
                self.heard.append(asked)
                if asked in self.answers:
                    line.sendall(self.answers[asked])


# IEEE 488.2 ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("sent", "data"),
    [
        # The forms of 8.7.9: as many digits as the length has, and more of them (from memory of IEEE Std 488.2-1992).
        (b"#14ABCD\n", b"ABCD"), (b"#206ABCDEF\n", b"ABCDEF"), (b"#800000003\n\n\n\n", b"\n\n\n"), (b"#10\n", b""),
        (b"#9000000002\x00\xff\n", b"\x00\xff"),
    ],
)  # fmt: skip
def test_definite_blocks_are_read_whole_whatever_bytes_they_hold(sent, data):
    other = Other({"B?": sent})
    assert Link(other.address).ask_block("B?") == data


@pytest.mark.parametrize("sent", [b"ABCD\n", b"#0ABC\n", b"#2x4ABCD\n", b"#14ABCDE\n", b"#9999999999\n"])
def test_what_is_no_block_is_told_and_not_believed(sent):
    link = Link(Other({"B?": sent}).address, 0.4)
    with pytest.raises((Garbled, InstrumentGone)):
        link.ask_block("B?")


def test_blocks_made_here_are_read_by_the_visa_library_itself():
    """pyvisa's own `query_binary_values` on a block that the stand-in makes."""
    import pyvisa

    values = np.arange(-500, 500, dtype="<i2")
    other = Other({"W?": block_of(values.tobytes()) + b"\n"})
    resource = pyvisa.ResourceManager("@py").open_resource(
        resource_name(other.address), read_termination="\n", write_termination="\n"
    )
    assert list(resource.query_binary_values("W?", datatype="h")) == list(values)
    resource.close()


@pytest.mark.parametrize(
    "address", ["", "http://x", "tcp://a b:1", "tcp://h:99999", "serial:///etc/../x y", "file:///etc/passwd"]
)
def test_a_wrong_address_is_told_in_words(address):
    with pytest.raises(SagenError, match=r"address|no port"):
        resource_name(address)


def test_a_refused_connection_and_a_silent_one_are_told_in_words():
    with socket.create_server(("127.0.0.1", 0)) as quiet:
        port = quiet.getsockname()[1]
        begun = time.monotonic()
        with pytest.raises(InstrumentGone, match="no answer"):
            Link(f"tcp://127.0.0.1:{port}", 0.3).ask("*IDN?")
        assert time.monotonic() - begun < 3
    with pytest.raises(InstrumentGone):
        Link(f"tcp://127.0.0.1:{port}", 0.3)


# profiles -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("name = 3", "name"),
        ('name = "a"\nmode = "strem"\nidentity = "x"\n[ask]', "did you mean 'stream'"),
        ('name = "a"\nmode = "meter"\nidentity = "x"\n[ask]\nvolts = "V?"', "ohms is missing"),
        ('name = "a"\nmode = "meter"\nidentity = "x"\n[ask]\nvolts = "V? {point.__class__}"\nohms = "O?"', "in braces"),
        ('name = "a"\nmode = "meter"\nidentity = "x"\n[ask]\nvolts = "V?\\nSYST:OFF"\nohms = "O?"', "printed"),
        ('name = "a"\nmode = "meter"\nidentity = "x"\n[ask]\nvolts = "V? {0"\nohms = "O?"', "braces"),
    ],
)
def test_a_profile_that_makes_no_sense_is_refused_before_a_word_is_sent(text, said):
    with pytest.raises(SagenError, match=said):
        parse_profile(text, "p.toml")


def test_a_single_shot_recorder_gives_its_channels_one_by_one(monkeypatch):
    monkeypatch.setattr(Link.__init__, "__defaults__", (20.0,))  # a busy machine is no silent instrument
    profile = shipped_profile("single")
    rows = [np.arange(100, dtype="i1"), -np.arange(100, dtype="i1")]
    other = Other({
        "*IDN?": b"OSTERBY,SHOT 2,7,1\n", "LIST?": b"A,B\n", "SPEED?": b"20000\n", "STEP? A": b"0.05\n", "STEP? B": b"0.1\n",
        "ZERO? A": b"0\n", "ZERO? B": b"1.5\n", "DONE?": b"1\n",
        **{f"SHOT? {name}": block_of(row.tobytes()) + b"\n" for name, row in zip("AB", rows, strict=True)},
    })  # fmt: skip
    recorder = ScpiRecorder(other.address)
    assert recorder.profile is profile or recorder.profile == profile
    capture = Recording("shot.npz", recorder).run(0.005)
    assert capture.samples == 100
    assert np.allclose(capture.channels[0].values(), 0.05 * rows[0])
    assert np.allclose(capture.channels[1].values(), 0.1 * rows[1] + 1.5)
    assert "SHOOT 0.005" in other.heard


# the recorder's stand-in ------------------------------------------------------------------------------------------


def test_what_is_streamed_is_what_the_machine_gave(served, tmp_path):
    capture = Recording("a.npz", ScpiRecorder(served())).run(3.0)
    assert (capture.samples, capture.sfreq) == (120_000, 40_000.0)
    write_capture(tmp_path / "a.npz", capture)
    again = read_capture(tmp_path / "a.npz")
    assert np.allclose(again.channels[0].values(), capture.channels[0].values(), atol=1e-4)
    from sagen.kinds import examine

    assert str(examine(again).channels[0].reading.wheel) == "60-2"


@pytest.mark.sampled(1)
@pytest.mark.parametrize("how", ["late", "garbled", "cut", "wrong_length", "vanish", "gaps"])
def test_a_recorder_that_misbehaves_loses_no_more_than_it_must(served, how):
    told = []
    recorder = ScpiRecorder(served("recorder", how))
    recorder.link.timeout_s = 0.6
    capture = Recording("a.npz", recorder, told.append).run(6.0, patience_s=4.0)
    assert capture.samples == 240_000
    kinds = [item.kind for item in told]
    assert kinds[0] == "started"
    assert kinds[-1] == "ended"
    if how == "late":
        assert "lost" not in kinds
        assert not capture.holes
    else:
        assert "lost" in kinds
        assert "back" in kinds
    lost = sum(stop - first for first, stop in capture.holes)
    assert lost < 0.5 * capture.samples
    assert len(capture.notes) == len(capture.holes)


def test_a_recorder_that_goes_for_good_leaves_what_came_until_then(served):
    told = []
    recorder = ScpiRecorder(served("recorder", "silent"))
    recorder.link.timeout_s = 0.3
    recording = Recording("a.npz", recorder, told.append)
    recorder.link._resource.timeout = 300
    capture = recording.run(60.0, patience_s=0.5)
    assert 0 < capture.samples < 60 * 40_000
    assert recording.gone
    assert told[-2].kind == "gone"


def test_another_instrument_is_not_taken_for_the_one(served):
    with pytest.raises(SagenError, match="no profile is for it"):
        ScpiRecorder(served("recorder", "identity"))


@pytest.mark.sampled(1)
@pytest.mark.parametrize("seed", range(8))
def test_killed_in_mid_record_at_any_block_keeps_all_blocks_before(served, seed):
    """Stopped after any number of blocks, what was kept is exactly what had been handed over by then."""
    rng, taken = np.random.default_rng(seed), []
    recorder = ScpiRecorder(served())
    recording = Recording("a.npz", recorder, took=taken.append)
    for number, block in enumerate(recorder.blocks(30.0)):
        recording.take(block)
        if number == int(rng.integers(0, 9)):
            break
    capture = recording.capture()
    assert capture.samples == sum(item.shape[1] for item in taken)
    assert np.array_equal(capture.channels[0].raw, np.concatenate([item[0] for item in taken]))


# where a stream stands -----------------------------------------------------------------------------------------------


class Clock:
    """A clock that the test sets."""

    now = 100.0

    def __call__(self):
        return self.now


def counted(*blocks, sfreq=1000.0):
    """What is made of blocks (s since the last one, count told, samples, whether the line was lost before)."""
    clock = Clock()
    count, out = SampleCount(sfreq, clock), []
    for seconds, told, samples, lost in blocks:
        clock.now += seconds
        count.interrupted = lost
        step = count.take(told, samples)
        count.at += step.missing + samples - step.repeated
        out.append((step.missing, step.repeated))
    return count.at, out


@pytest.mark.parametrize(
    ("what", "blocks", "steps"),
    [
        ("as it should be", [(0, 0, 100, False), (0.1, 100, 100, False)], [(0, 0), (0, 0)]),
        ("a hole", [(0, 0, 100, False), (0.6, 600, 100, False)], [(0, 0), (500, 0)]),
        ("counted anew after an outage of 3 s", [(0, 7000, 100, False), (3.1, 0, 100, True)], [(0, 0), (3000, 0)]),
        ("no count at all, and an outage of 2 s", [(0, None, 100, False), (2.1, None, 100, True)], [(0, 0), (2000, 0)]),
        ("longer than the time that passed", [(0, 0, 100, False), (0.1, 10**9, 100, False), (0.1, 10**9 + 100, 100, False)], [(0, 0)] * 3),
        ("told twice", [(0, 0, 100, False), (0.1, 0, 100, False), (0.1, 100, 50, False)], [(0, 0), (0, 100), (0, 0)]),
        ("half of it told twice", [(0, 0, 100, False), (0.1, 50, 100, False)], [(0, 0), (0, 50)]),
        ("wrapped at 16 bits", [(0, 65_500, 36, False), (0.04, 0, 100, False), (0.1, 100, 100, False)], [(0, 0)] * 3),
    ],
)  # fmt: skip
def test_a_streams_count_is_held_against_the_clock(what, blocks, steps):
    """By arithmetic at 1000 samples a second: what is missing is never more than the time that passed."""
    assert counted(*blocks)[1] == steps, what


def test_many_small_lies_about_the_count_do_not_add_up():
    """Each block claims a tenth of a second more than passed: in all no more than a second is believed."""
    blocks = [(0.0, k * 200, 100, False) for k in range(200)]
    at, steps = counted(*blocks)
    assert sum(missing for missing, _ in steps) <= 1000
    assert at <= 200 * 100 + 1000


# recorded from the command line ---------------------------------------------------------------------------------


def recorded(address, out, *more, seconds="60"):
    return subprocess.Popen(
        [sys.executable, "-m", "sagen", "record", "--from", address, "--seconds", seconds, "-o", str(out), "--json", *more],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip


@pytest.mark.sampled(1)
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_a_recording_that_is_told_to_end_keeps_what_there_is(served, tmp_path, number):
    out = tmp_path / "o.csv"
    done = recorded(served(fast=False), out)
    assert json.loads(done.stdout.readline())["event"] == "started"
    time.sleep(1.0)
    assert list(tmp_path.iterdir()) == [tmp_path / "o.csv.record"], "it grows on the disk"
    done.send_signal(number)
    told, wrong = done.communicate(timeout=60)
    assert (done.returncode, wrong) == (0, "")
    ended = next(row for row in map(json.loads, told.splitlines()) if row["event"] == "ended")
    capture = read_capture(out)
    assert f"{capture.samples} samples" in ended["text"]
    assert capture.seconds > 0.3
    assert list(tmp_path.iterdir()) == [out]


@pytest.mark.long
def test_a_killed_recording_lies_beside_and_is_not_written_over(served, tmp_path):
    out, address = tmp_path / "o.npz", served(fast=False)
    done = recorded(address, out)
    done.stdout.readline()
    time.sleep(1.0)
    done.kill()
    done.communicate()
    left = tmp_path / "o.npz.record"
    assert read_capture(left).seconds > 0.2
    again = recorded(address, out, seconds="0.2")
    assert "is there already: an earlier recording that was not written" in again.communicate(timeout=60)[1]
    assert again.returncode == 1
    assert read_capture(left).seconds > 0.2


@pytest.mark.sampled(1)
@pytest.mark.parametrize(("name", "said"), [
    ("o.h5", "cannot write '.h5' files"), ("nowhere/o.npz", "is no folder"), ("taken/", "cannot write ''"),
    ("taken.npz", "no plain file"),
])  # fmt: skip
def test_what_cannot_be_written_is_refused_before_the_first_sample(served, tmp_path, name, said):
    (tmp_path / "taken").mkdir()
    (tmp_path / "taken.npz").mkdir()
    began = time.monotonic()
    done = recorded(served(fast=False), tmp_path / name)
    told, wrong = done.communicate(timeout=50)
    assert done.returncode == 1
    assert said in wrong
    assert "started" not in told
    assert time.monotonic() - began < 30
    assert sorted(path.name for path in tmp_path.iterdir()) == ["taken", "taken.npz"]


def test_a_capture_that_cannot_be_converted_after_all_stays_as_it_was_recorded(served, tmp_path, monkeypatch):
    from sagen.cli import main
    from sagen.cli import record as verb

    def full(path, capture):
        raise SagenError(f"{path} cannot be written: No space left on device")

    monkeypatch.setattr(verb, "write_capture", full)
    status = main(["record", "--from", served(), "--seconds", "0.5", "-o", str(tmp_path / "o.csv")])
    assert status == 1
    assert read_capture(tmp_path / "o.csv.record").samples > 1000


# the meter's stand-in -----------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("point", "state"),
    [("supply", "key_on"), ("ground", "cranking"), ("signal", "key_on_unplugged"), ("signal_wire", "unplugged")],
)
def test_the_meter_reads_what_the_machine_shows(served, point, state):
    machine = broken(SPEC, [], 4)
    found = ScpiMeter(served("meter", machine=machine)).read(point, state)
    assert found.value == pytest.approx(read(machine, point, state).value, rel=2e-3)


def test_over_range_is_no_number(served):
    found = ScpiMeter(served("meter", fault=[("signal_wire_high_resistance", 1.0)])).read("signal_wire", "unplugged")
    assert found.over_range
    assert found.value == 4e7


# the module ---------------------------------------------------------------------------------------------------------


def scapy_obd():
    from scapy.config import conf

    conf.contribs["ISOTP"] = {"use-can-isotp-kernel-module": False}
    from scapy.contrib.automotive.obd.obd import OBD

    return OBD


@pytest.fixture
def module():
    made = []

    def make(*misbehave, stays=("P0335", "P0340", "P0325", "C0035", "U0100"), more=()):
        stand_in = ModuleStandIn(broken(SPEC, [], 4), State.CRANKING, frozenset(misbehave), tuple(stays), more=more)
        tester = stand_in.connect()
        made.extend((tester, stand_in))
        return stand_in, tester

    yield make
    for item in made:
        item.close()


def test_scapys_layers_decode_what_the_stand_in_answers(module):
    """scapy (its automotive OBD layers) reads the codes and the speed from the bytes that the stand-in sends."""
    stand_in, _ = module()
    packet = scapy_obd()(stand_in._answer(0x03, b"\x03", list(stand_in.stored)))
    told = (
        [(dtc.location, f"{dtc.code1:X}{dtc.code2:X}{dtc.code3:X}{dtc.code4:X}") for dtc in packet.dtcs]
        if hasattr(packet, "dtcs")
        else []
    )
    shown = packet.show2(dump=True)
    assert "0335" in "".join(digits for _, digits in told) or "Powertrain" in shown
    assert packet.count == 5
    rpm = scapy_obd()(stand_in._answer(0x01, b"\x01\x0c", []))
    value = next(field.data for field in rpm.data_records)
    assert "min-1" in str(rpm.show2(dump=True))
    assert value is not None
    refused = scapy_obd()(stand_in._answer(0x22, b"\x22\xf1\x90", []))
    assert "serviceNotSupported" in refused.show2(dump=True)


def test_scapys_requests_are_understood(module):
    """The bytes of scapy's own requests are answered; the answer is as long as the codes need (five: more than a frame)."""
    from scapy.contrib.automotive.obd.services import OBD_S03

    OBD = scapy_obd()
    stand_in, _ = module()
    [answer] = stand_in._answers(bytes(OBD() / OBD_S03()), None)
    assert obd.read_codes(answer) == ("P0335", "P0340", "P0325", "C0035", "U0100")
    assert len(answer) > 7, "longer than a single frame: ISO 15765-2 segments it"


@pytest.mark.parametrize("count", [1, 2, 3, 30])
def test_codes_travel_in_one_frame_and_in_many(module, count):
    """ISO 15765-2: up to 7 bytes a single frame, above that first and consecutive frames with flow control."""
    codes = tuple(f"P0{300 + k}" for k in range(count))
    _, tester = module(stays=codes)
    [found] = tester.codes()
    assert [code for code, status in found.codes if status == "stored"] == list(codes)
    assert found.frozen["coolant"] == 64.0


def test_several_modules_answer_for_themselves(module):
    _, tester = module(stays=("P0335",), more=((1, ("P0700",)), (3, ())))
    found = {
        this_code.module: [code for code, status in this_code.codes if status == "stored"]
        for this_code in tester.codes()
    }
    assert found == {"7E8": ["P0335"], "7E9": ["P0700"], "7EB": []}


@pytest.mark.long
def test_busy_and_pending_answers_are_waited_for(module):
    for how in ("busy", "pending"):
        _, tester = module(how, stays=("P0335",))
        assert tester.codes()[0].codes[0][0] == "P0335"
        assert tester.live("rpm").value > 100


def test_a_refusal_and_silence_are_said_in_words(module):
    _, tester = module("refuse")
    assert tester.codes()[0].codes == ()
    assert "does not have this service" in next(iter(tester.refused.values()))
    with pytest.raises(SagenError, match="did not clear"):
        tester.clear()
    _, silent = module("silent")
    with pytest.raises(InstrumentGone, match="no module answers"):
        silent.codes()
    _, cut = module("cut", stays=("P0335",))
    assert cut.codes()[0].codes == ()
    assert "says 1 codes and sends 0" in next(iter(cut.refused.values())), (
        "a list that was cut is told, and no code is made up"
    )


def test_a_fault_that_is_there_comes_back_at_once_after_clearing(module):
    stand_in, tester = module(stays=("P0335",))
    stand_in.stored.append("P0500")
    assert tester.clear() == ("7E8",)
    assert {code for code, _ in tester.codes()[0].codes} == {"P0335"}


@pytest.mark.parametrize("code", ["P0335", "C0035", "B1234", "U0100", "P3FFF"])
def test_codes_and_their_bytes_are_each_others_inverse(code):
    assert obd.code_of(obd.bytes_of(code)) == code


def test_live_values_follow_their_scaling():
    """SAE J1979 (from memory): 0x0C is rpm in quarters, 0x05 and 0x0F degC with 40 added: 0C B2 is 812.5 rpm."""
    assert obd.read_live(bytes.fromhex("410C0CB2"), obd.ITEMS["rpm"]) == 812.5
    assert obd.read_live(bytes.fromhex("410568"), obd.ITEMS["coolant"]) == 64.0
    assert obd.ITEMS["rpm"].write(812.5) == bytes.fromhex("0CB2")


# the command line -----------------------------------------------------------------------------------------------------


def test_the_contract_of_stand_in_record_and_read(tmp_path):
    (tmp_path / "c.toml").write_text(CIRCUIT)
    serving = subprocess.Popen(
        [sys.executable, "-m", "sagen", "stand-in", str(tmp_path / "c.toml"), "--recorder", "0", "--meter", "0"],
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        lines = [serving.stdout.readline().strip() for _ in range(3)]
        assert lines[2] == "ready"
        recorder, meter = (line.split()[1] for line in lines[:2])
        done = subprocess.run(
            [sys.executable, "-m", "sagen", "record", "--from", recorder, "--seconds", "1", "-o", str(tmp_path / "o.npz"), "--json"],
            capture_output=True, text=True, timeout=60,
        )  # fmt: skip
        rows = [json.loads(line) for line in done.stdout.splitlines()]
        assert done.returncode == 0, done.stderr
        assert [this_row["event"] for this_row in rows][:2] == ["started", "ended"]
        assert read_capture(tmp_path / "o.npz").seconds == pytest.approx(1.0, abs=0.01)
        done = subprocess.run(
            [sys.executable, "-m", "sagen", "read", "--from", meter, "--point", "signal", "--state", "key_on_unplugged", "--json"],
            capture_output=True, text=True, timeout=60,
        )  # fmt: skip
        row = json.loads(done.stdout)
        assert (row["point"], row["state"], row["quantity"]) == ("signal", "key_on_unplugged", "volts")
        assert row["value"] == pytest.approx(5.0, abs=0.3)
        wrong = subprocess.run(
            [sys.executable, "-m", "sagen", "read", "--from", meter, "--point", "pin", "--json"],
            capture_output=True,
            text=True,
            timeout=60,
        )
        assert wrong.returncode == 1
        assert "unknown value 'pin'" in json.loads(wrong.stdout)["error"]
    finally:
        serving.terminate()
        serving.wait(5)


def test_a_profile_is_data():
    assert isinstance(shipped_profile("stream"), Profile)


def test_what_a_module_says_of_itself_is_read_and_scapy_reads_it_too(module):
    """Service 09: scapy's layer finds the same seventeen letters in the stand-in's answer."""
    stand_in, tester = module()
    assert tester.about() == {"7E8": "ECM-StandIn, STANDIN0000000001"}
    packet = scapy_obd()(stand_in._answer(0x09, b"\x09\x02", []))
    assert "STANDIN0000000001" in packet.show2(dump=True)
    assert obd.read_about(obd.about_answer(obd.NAME_OF_MODULE, "A" * 40), obd.NAME_OF_MODULE) == "A" * 20
    with pytest.raises(SagenError, match="makes no sense"):
        obd.read_about(b"\x49", obd.NAME_OF_MODULE)
    assert stand_in._answer(0x09, b"\x09\x55", [])[:1] == b"\x7f"


def test_a_range_is_told_before_the_recording_and_scales_its_counts(served):
    machine = broken(SPEC, [], 4)
    wide = ScpiRecorder(served("recorder", machine=machine))
    first = wide.channels()[0]
    narrow = ScpiRecorder(served("recorder", machine=machine), ranges={first.column: 2.0, "none": 5.0})
    assert narrow.channels()[0].scale == pytest.approx(2.0 / 30_000)
    assert narrow.channels()[1].scale == wide.channels()[1].scale
    block = next(this_block for this_block in narrow.blocks(0.5) if isinstance(this_block, Block))
    volts = block.raw[0] * narrow.channels()[0].scale
    assert volts.max() <= 32_767 * 2.0 / 30_000 + 1e-5, "what goes beyond stands at the end of the range"
    for item in (wide, narrow):
        item.close()


def test_a_meter_that_can_be_told_how_often_to_read_goes_on_reading(served):
    meter = ScpiMeter(served("meter", machine=broken(SPEC, [], 4)), rate=10.0)
    assert meter.read("supply", "key_on").value == pytest.approx(12.3, abs=1.5)
    meter.close()
