"""Imported before anything of Sagen: what a test run makes is made apart, and nothing of it is looked for or left where whoever
runs it keeps their own log and settings."""

import atexit
import os
import shutil
import tempfile
from pathlib import Path

#: names the folder of what is made once a test run and used by all its processes, and by the programs they start
SHARED = "SAGEN_TEST_SHARED"
#: where programs keep what is a person's (XDG Base Directory Specification 0.8)
PLACES = ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME")

if SHARED not in os.environ:
    os.environ[SHARED] = tempfile.mkdtemp(prefix="sagen-test-shared-")
    atexit.register(shutil.rmtree, os.environ[SHARED], ignore_errors=True)
for place in PLACES:
    os.environ[place] = str(Path(os.environ[SHARED]) / place)
os.environ.pop("SAGEN_STORE", None)


def folder() -> Path:
    """The folder of this test run."""
    return Path(os.environ[SHARED])
