"""Instruments that lie: silence, garbage, endless lines, drips, hang-ups, huge blocks, jumping counts. Nothing is endless, nothing
fills memory, and what came before is kept."""

import select
import socket
import threading
import time
from contextlib import suppress

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sagen.instruments.profile import profile_for
from sagen.instruments.protocols import Block
from sagen.instruments.scpi import Garbled, GaveNothing, InstrumentGone, Link, Lost, ScpiRecorder
from sagen.model.errors import SagenError

TIMEOUT = 0.4
IDENTITY = "LARKMOOR,RIBBON 4,STAND-IN,1"


class Liar:
    """A server on 127.0.0.1 whose answers `lie(line, connection)` gives: bytes, None for none, "hang up" to hang up."""

    def __init__(self, lie):
        self.lie, self.ended = lie, threading.Event()
        self.listening = socket.create_server(("127.0.0.1", 0))
        self.address = f"tcp://127.0.0.1:{self.listening.getsockname()[1]}"
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self):
        with suppress(OSError, ValueError):  # closed
            while not self.ended.is_set():
                if select.select([self.listening], [], [], 0.05)[0]:
                    connection, _ = self.listening.accept()
                    threading.Thread(target=self._talk, args=(connection,), daemon=True).start()

    def _talk(self, connection):
        with connection:
            rest = b""
            while not self.ended.is_set():
                try:
                    came = connection.recv(4096) if select.select([connection], [], [], 0.05)[0] else None
                    if came == b"":
                        return
                    *lines, rest = (rest + (came or b"")).split(b"\n")
                    for line in lines:
                        answer = self.lie(line.decode(), connection)
                        if answer == "hang up":
                            return
                        if answer is not None:
                            connection.sendall(answer)
                except OSError:
                    return

    def close(self):
        self.ended.set()
        self.listening.close()


@pytest.fixture
def liar():
    made = []

    def make(lie):
        made.append(Liar(lie))
        return made[-1]

    yield make
    for each in made:
        each.close()


def dripping(connection, ended, every=0.05):
    while not ended.is_set():
        try:
            connection.sendall(b"1")
        except OSError:
            return
        time.sleep(every)


def answered(server, line="*IDN?", timeout=TIMEOUT):
    link = Link(server.address, timeout)
    began = time.monotonic()
    try:
        return link.ask(line)
    finally:
        link.close()
        assert time.monotonic() - began < 4 * timeout


def test_an_endless_line_is_garbled_and_fills_nothing(liar):
    server = liar(lambda line, connection: b"A" * 100_000)
    with pytest.raises(Garbled, match="does not end"):
        answered(server)


def test_a_drip_holds_nobody_up(liar):
    server = liar(lambda line, connection: dripping(connection, server.ended))
    with pytest.raises(InstrumentGone, match="no answer"):
        answered(server)


def test_an_answer_in_pieces_is_still_one(liar):
    def slowly(line, connection):
        for piece in (b"LARK", b"MOOR", b"\n"):
            connection.sendall(piece)
            time.sleep(0.05)

    assert answered(liar(slowly), timeout=5.0) == "LARKMOOR"  # a busy machine takes longer than the pauses


@pytest.mark.parametrize("answer", [b"\x1b[2J\x07\n", b"\xff\xfe\n", b"a\0b\n", "Grüße\n".encode()])
def test_what_is_no_line_of_text_is_said_and_never_shown(liar, answer):
    with pytest.raises(Garbled, match="no line of text"):
        answered(liar(lambda line, connection: answer))


@pytest.mark.parametrize(
    ("block", "why"),
    [
        (b"#9999999999xxxx", Garbled), (b"#0\n", Garbled), (b"#3abc\n", Garbled), (b"hello\n", Garbled),
        (b"#15hello!", Garbled), (b"#15hel", InstrumentGone), (b"#", InstrumentGone),
    ],
)  # fmt: skip
def test_a_block_that_is_none_is_refused_in_time(liar, block, why):
    link = Link(liar(lambda line, connection: block).address, TIMEOUT)
    began = time.monotonic()
    with pytest.raises(why):
        link.ask_block("DATA?")
    link.close()
    assert time.monotonic() - began < 4 * TIMEOUT


@given(st.binary(max_size=200))
def test_any_bytes_are_an_answer_or_one_sentence(data):
    server = Liar(lambda line, connection: data)
    try:
        link = Link(server.address, 0.05)
        for ask in (link.ask, link.ask_number, link.ask_block):
            try:
                ask("DATA?")
            except SagenError as error:
                assert "\n" not in str(error)
                assert len(str(error)) < 300
        link.close()
    finally:
        server.close()


# streams ------------------------------------------------------------------------------------------------------


def recorder(liar, blocks, position=lambda at: at):
    """A recorder of one channel at 10 kHz; `blocks(k)` gives the k-th answer to the asking for a block."""
    profile = profile_for(IDENTITY, ("stream",))
    state = {"k": 0, "at": 0}
    ask = profile.ask

    def lie(line, connection):
        if line == "*IDN?":
            return f"{IDENTITY}\n".encode()
        if line == ask.channels:
            return b"A\n"
        if line == ask.rate:
            return b"10000\n"
        if ask.position and line == ask.position:
            return f"{position(state['at'])}\n".encode()
        if line == ask.block:
            state["k"] += 1
            answer = blocks(state["k"])
            if isinstance(answer, int):
                samples = np.zeros(answer, profile.block.dtype).tobytes()
                state["at"] += answer
                head = str(len(samples))
                return f"#{len(head)}{head}".encode() + samples + b"\n"
            return answer
        return (b"V\n" if "UNIT" in line else b"1\n") if "?" in line else None

    return ScpiRecorder(liar(lie).address)


def streamed(made, patience=0.6, seconds=30.0):
    """What came: samples, what was said, and the error that ended it."""
    samples, said = 0, []
    began = time.monotonic()
    try:
        for item in made.blocks(seconds, patience_s=patience):
            if isinstance(item, Block):
                samples += item.raw.shape[1]
            elif isinstance(item, Lost):
                said.append(item)
        ended = None
    except SagenError as error:
        ended = error
    finally:
        made.close()
    assert time.monotonic() - began < 12
    return samples, said, ended


def test_a_recorder_that_answers_and_gives_nothing_more_is_given_up_after_patience(liar):
    samples, _, ended = streamed(recorder(liar, lambda k: 500 if k <= 3 else 0))
    assert samples == 1_500
    assert isinstance(ended, GaveNothing)
    assert "no sample for" in str(ended)


def test_a_recorder_that_hangs_up_in_each_block_is_given_up_after_patience(liar):
    samples, said, ended = streamed(recorder(liar, lambda k: 500 if k <= 3 else "hang up"))
    assert samples == 1_500
    assert said
    assert isinstance(ended, InstrumentGone)


@pytest.mark.parametrize("jump", [10**7, 10**12, -(10**6)])
def test_a_count_that_jumps_makes_no_hole_that_no_time_passed_for(liar, jump):
    made = recorder(liar, lambda k: 500 if k <= 4 else 0, lambda at: at if at < 1_000 else at + jump)
    samples, said, _ = streamed(made)
    assert samples == 2_000
    assert sum(item.missing or 0 for item in said) < 10 * 10_000
    assert said
