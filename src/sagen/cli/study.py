"""`sagen study FOLDER|LOG`: an archive examined on all cores or on a cluster, to Parquet."""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path

from sagen.casework.study import study
from sagen.cli import whole
from sagen.model.errors import SagenError
from sagen.model.language import tr


def arguments(parser) -> None:
    parser.add_argument("file", metavar="FOLDER|LOG", help=tr("a folder of captures, or a job log by folder or URL"))
    parser.add_argument(
        "--workers", type=whole, metavar="N", help=tr("processes on this machine; without it one a core")
    )
    parser.add_argument("--scheduler", metavar="tcp://...", help=tr("a Dask scheduler, in place of this machine"))
    parser.add_argument("-o", "--output", default="study.parquet", metavar="study.parquet")
    parser.add_argument("--json", action="store_true", help=tr("what it came to as one object"))
    parser.set_defaults(run=run)


def run(arguments) -> int:
    if arguments.workers is not None and not 1 <= arguments.workers <= 1024:
        raise SagenError(tr("{workers} is no number of workers: 1 to 1024", workers=arguments.workers))
    out = Path(arguments.output)
    if out.suffix != ".parquet":
        raise SagenError(tr("{name}: a study is written to a .parquet file", name=out.name))
    began = last = time.monotonic()

    def tell(done: int, of: int) -> None:
        nonlocal last
        now = time.monotonic()
        if now - last >= 1.0 or done == of:
            last = now
            left = (of - done) * (now - began) / max(done, 1)
            print(
                tr("{done} of {of} captures, about {left:.0f} s left", done=done, of=of, left=left),
                file=sys.stderr,
                flush=True,
            )

    found = study(arguments.file, out, workers=arguments.workers, scheduler=arguments.scheduler, progress=tell)
    if arguments.json:
        print(json.dumps(found.as_row(), ensure_ascii=False))
    else:
        print(
            tr(
                "{captures} captures, {channels} channels, {refused} could not be read, {seconds:.0f} s",
                captures=found.captures,
                channels=found.channels,
                refused=found.refused,
                seconds=found.seconds,
            )
        )
        print(tr("written: {table} and {envelopes}", table=found.table, envelopes=found.envelopes))
    return 0
