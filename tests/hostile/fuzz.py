"""Coverage-guided fuzzing (atheris, libFuzzer) of what comes from outside: answers of instruments and modules, bundles, sheets,
job files, cards and the formats that are read within the program. A sentence is what each may come to; anything else is a
breach, and what led to it stays in tests/data/fuzzed. `./run hostile` gives each target an hour, or SAGEN_FUZZ_S seconds.

    python tests/hostile/fuzz.py TARGET SECONDS FOLDER
"""

import os
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import nullcontext, suppress
from pathlib import Path
from types import SimpleNamespace

import numpy as np

try:
    import atheris
except ImportError:  # what was found is replayed without it
    atheris = None

with atheris.instrument_imports(include=["sagen", "tomllib"]) if atheris else nullcontext():
    from mutants import JOB, ROWS, SHEET, mutated, read_any, seeds

    from sagen.instruments import obd
    from sagen.instruments.scpi import InstrumentGone, Link, identify
    from sagen.model.errors import SagenError

KEPT = Path(__file__).parents[1] / "data" / "fuzzed"
LONGEST_S, MOST_MB = 10, 1024
SECONDS = 0.01  #: of the captures it begins with: small files are tried more often


class Fed(Link):
    """A line whose answers are given beforehand."""

    def __init__(self, data: bytes):
        self.address, self.timeout_s, self.until, self.left = "fed", 5.0, float("inf"), data
        self._resource = SimpleNamespace(write=lambda line: None)

    def _some(self, most: int, deadline: float) -> bytes:
        if not self.left:
            raise InstrumentGone("fed: the connection is lost")
        out, self.left = self.left[:most], self.left[most:]
        return out


def answers(data: bytes) -> None:
    """An instrument's answers to each kind of question."""
    for ask in (Link.ask, Link.ask_number, Link.ask_block):
        with suppress(SagenError):
            ask(Fed(data), "DATA?")
    with suppress(SagenError):
        assert "\n" not in identify(Fed(data))


def modules(data: bytes) -> None:
    """A module's answers: codes, live values, what it says of itself, refusals."""
    for read in (
        obd.read_codes, obd.refusal, *(lambda told, this=item: obd.read_live(told, this) for item in obd.ITEMS.values()),
        lambda told: obd.read_about(told, obd.NUMBER_OF_VEHICLE),
    ):  # fmt: skip
        with suppress(SagenError):
            read(data)


def as_file(name: str) -> Callable[[bytes], None]:
    """A file of that name."""

    def one(data: bytes) -> None:
        with tempfile.TemporaryDirectory(dir="/dev/shm" if os.path.isdir("/dev/shm") else None) as folder:
            path = Path(folder) / name
            path.write_bytes(data)
            with suppress(SagenError):
                read_any(path)

    return one


FILES = (
    "a.csv",
    "a.npz",
    "a.wav",
    "a.sheet.toml",
    "a.job.toml",
    "a.circuit.toml",
    "a.card.toml",
    "a.rows.csv",
    "job.zip",
)
TARGETS: dict[str, Callable[[bytes], None]] = {
    "answers": answers, "modules": modules, **{name: as_file(name) for name in FILES},
}  # fmt: skip
FIRST = {
    "answers": [b"SAGEN,STAND-IN,1,1\n", b"4.97\n", b"#15abcde\n"],
    "modules": [bytes([0x43, 2, 0x03, 0x35, 0xC1, 0x00]), bytes([0x41, 0x0C, 0x1A, 0xF8]), bytes([0x7F, 0x01, 0x12])],
    "a.sheet.toml": [SHEET.encode()], "a.job.toml": [JOB.encode()], "a.rows.csv": [ROWS.encode()],
}  # fmt: skip


def mutate(target: str, seconds: float, sound: list[bytes]) -> None:
    """Where atheris does not install: the same for so long by mutants that nothing guides."""
    rng, ends = np.random.default_rng(int(time.time())), time.monotonic() + seconds
    while time.monotonic() < ends:
        data = mutated(rng, sound[int(rng.integers(len(sound)))], sound)
        try:
            TARGETS[target](data)
        except Exception:
            (KEPT / f"{target}-{rng.integers(1 << 30):08x}").write_bytes(data)
            raise


def main(target: str, seconds: int, folder: Path) -> None:
    corpus = folder / f"corpus-{target}"
    corpus.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        sound = [data for file, data in seeds(Path(name), SECONDS).items() if file == target]
    for number, data in enumerate([*FIRST.get(target, []), *sound]):
        (corpus / f"seed-{number}").write_bytes(data)
    KEPT.mkdir(exist_ok=True)
    if atheris is None:
        mutate(target, seconds, [path.read_bytes() for path in sorted(corpus.iterdir())])
        return
    flags = [
        f"-max_total_time={seconds}", f"-timeout={LONGEST_S}", f"-rss_limit_mb={MOST_MB}", "-max_len=65536", "-print_final_stats=1",
        f"-artifact_prefix={KEPT / target}-", str(corpus),
    ]  # fmt: skip
    atheris.Setup([sys.argv[0], *flags], TARGETS[target])
    atheris.Fuzz()


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), Path(sys.argv[3]))
