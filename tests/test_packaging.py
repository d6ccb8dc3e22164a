"""What a Linux desktop is given beside the program, by the published forms: man(7), the freedesktop.org specifications of desktop
entries, icon themes, shared MIME information and AppStream."""

import gzip
import importlib.util
import shutil
import subprocess
import xml.etree.ElementTree as ET
from configparser import ConfigParser
from pathlib import Path

import pytest
from PySide6.QtGui import QImage

from sagen.cli import VERBS, whole_parser

HERE = Path(__file__).parents[1] / "packaging"


@pytest.fixture(scope="module")
def stage(tmp_path_factory, app):
    spec = importlib.util.spec_from_file_location("make_files", HERE / "make_files.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    where = tmp_path_factory.mktemp("stage")
    module.main(where)
    return where / "usr/share"


def test_the_manual_tells_of_every_command_and_option(stage):
    text = gzip.decompress((stage / "man/man1/sagen.1.gz").read_bytes()).decode()
    plain = text.replace("\\-", "-")
    assert plain.startswith(".TH SAGEN 1 ")
    assert [line for line in plain.splitlines() if line.startswith(".SH")][:4] == [
        ".SH NAME", ".SH SYNOPSIS", ".SH DESCRIPTION", ".SH OPTIONS",
    ]  # fmt: skip
    for name, told in VERBS.items():
        assert f".SS {name}\n{told}" in plain
    for verb in next(
        item for item in whole_parser()._actions if item.choices and "examine" in item.choices
    ).choices.values():
        for action in verb._actions:
            for word in action.option_strings:
                assert word in plain or word in ("-h", "--help")
    if shutil.which("man"):
        done = subprocess.run(
            ["man", "--warnings", "-l", str(stage / "man/man1/sagen.1.gz")], capture_output=True, text=True, timeout=60,
            env={"LC_ALL": "C.UTF-8", "PATH": "/usr/bin:/bin", "MANWIDTH": "80"},
        )  # fmt: skip
        assert done.returncode == 0
        assert "warning" not in done.stderr


def test_every_shell_completes_every_command(stage):
    bash = stage / "bash-completion/completions/sagen"
    assert subprocess.run(["bash", "-n", str(bash)], timeout=30, check=False).returncode == 0
    asked = f". {bash}; COMP_WORDS=(sagen exa); COMP_CWORD=1; f=$(complete -p sagen | sed 's/.*-F \\([^ ]*\\).*/\\1/'); $f; echo ${{COMPREPLY[@]}}"
    done = subprocess.run(["bash", "-c", asked], capture_output=True, text=True, timeout=30, check=True)
    assert done.stdout.split() == ["examine"]
    for text in (
        (stage / "zsh/vendor-completions/_sagen").read_text(), (stage / "fish/vendor_completions.d/sagen.fish").read_text(),
    ):  # fmt: skip
        assert all(name in text for name in VERBS)


def test_menu_entry_types_and_icons_belong_together(stage):
    entry = ConfigParser(interpolation=None)
    entry.optionxform = str
    entry.read(stage / "applications/sagen.desktop")
    entry = entry["Desktop Entry"]
    assert entry["Exec"].split() == ["sagen", "open", "%F"]
    types = [item for item in entry["MimeType"].split(";") if item.startswith("application/x-sagen")]
    mime = ET.parse(stage / "mime/packages/sagen-mime.xml").getroot()
    assert sorted(types) == sorted(item.get("type") for item in mime)
    info = ET.parse(stage / "metainfo/sagen.metainfo.xml").getroot()
    assert sorted(item.text for item in info.iter("mediatype")) == sorted(types)
    assert info.find("launchable").text == "sagen.desktop"
    for size in (16, 48, 256):
        image = QImage(str(stage / f"icons/hicolor/{size}x{size}/apps/{entry['Icon']}.png"))
        assert (image.width(), image.height()) == (size, size)
        # Drawn, and with clear corners.
        assert image.pixelColor(size // 2, size // 8).alpha() == 255
        assert image.pixelColor(0, 0).alpha() == 0
    if shutil.which("desktop-file-validate"):
        subprocess.run(["desktop-file-validate", str(stage / "applications/sagen.desktop")], timeout=30, check=True)
