"""A PostgreSQL server of the tests' own, on loopback, from Debian's package."""

import atexit
import itertools
import os
import shutil
import socket
import subprocess
import tempfile
import time
from pathlib import Path

import psycopg

_NUMBERS = itertools.count()


class Server:
    """Started when it is made; `url()` is a new empty database of it. It can be stopped and started again."""

    def __init__(self):
        homes = sorted(Path("/usr/lib/postgresql").glob("*/bin"), key=lambda path: float(path.parent.name))
        assert homes, "PostgreSQL is missing: `./run test` installs Debian's package"
        self.programs = homes[-1]
        # The server refuses to run as root.
        self.user = {"user": "postgres", "group": "postgres", "extra_groups": []} if os.geteuid() == 0 else {}
        self.folder = Path(tempfile.mkdtemp(prefix="sagen-test-postgres-"))
        self.data = self.folder / "data"
        if self.user:
            shutil.chown(self.folder, "postgres", "postgres")
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self._run("initdb", "-D", self.data, "-U", "bay", "-A", "trust", "-E", "UTF8", "--no-sync", "--locale=C.UTF-8")
        self.more = ""
        self.start()
        atexit.register(self.remove)

    def start(self):
        options = f"-p {self.port} -k {self.folder} -h 127.0.0.1 -c fsync=off -c max_connections=200{self.more}"
        self._run("pg_ctl", "-D", self.data, "-w", "-s", "-o", options, "-l", self.folder / "log", "start")

    def with_tls(self):
        """Have it speak TLS from its next start, with a certificate of its own; answers the certificate's file."""
        certificate, key = self.folder / "tls.crt", self.folder / "tls.key"
        subprocess.run(
            ["openssl", "req", "-new", "-x509", "-days", "2", "-nodes", "-subj", "/CN=127.0.0.1", "-addext",
             "subjectAltName=IP:127.0.0.1", "-keyout", key, "-out", certificate],
            check=True, capture_output=True, cwd="/", **self.user,
        )  # fmt: skip
        os.chmod(key, 0o600)
        self.stop()
        self.more = f" -c ssl=on -c ssl_cert_file={certificate} -c ssl_key_file={key}"
        self.start()
        return certificate

    def stop(self):
        self._run("pg_ctl", "-D", self.data, "-m", "immediate", "-w", "-s", "stop")

    def remove(self):
        subprocess.run(
            [self.programs / "pg_ctl", "-D", self.data, "-m", "immediate", "-s", "stop"],
            cwd="/",
            check=False,
            **self.user,
        )
        shutil.rmtree(self.folder, ignore_errors=True)

    def _run(self, program, *words):
        subprocess.run(
            [self.programs / program, *map(str, words)], cwd="/", check=True, stdout=subprocess.DEVNULL, **self.user
        )

    def url(self):
        """The URL of a new, empty database."""
        name = f"log{next(_NUMBERS)}"
        with psycopg.connect(f"postgresql://bay@127.0.0.1:{self.port}/postgres", autocommit=True) as connection:
            connection.execute(f"create database {name}")
        return f"postgresql://bay@127.0.0.1:{self.port}/{name}"


_SERVER = []


def server():
    """The server of this test process, started when it is first asked for."""
    if not _SERVER:
        _SERVER.append(Server())
    return _SERVER[0]


def until(what, seconds=40.0):
    """Wait until `what()` is true; answers how long it took, None where it never was."""
    began = time.monotonic()
    while time.monotonic() - began < seconds:
        if what():
            return time.monotonic() - began
        time.sleep(0.01)
    return None
