"""What must stay true of the code: no Qt in the core, a light start, a Qt that counts None right, colours that read."""

import subprocess
import sys
from itertools import combinations

import numpy as np
import pytest
import wcag_contrast_ratio
from colorspacious import cspace_convert, deltaE

from sagen.desk.look.theme import LOOKS

CORE = """
import sys, importlib, sagen
from pathlib import Path
house = Path(sagen.__file__).parent
for file in sorted(house.rglob("*.py")):
    parts = file.relative_to(house.parent).with_suffix("").parts
    if parts[1] not in ("desk", "__main__") and "migrations" not in parts:
        importlib.import_module(".".join(parts).removesuffix(".__init__"))
print([name for name in sys.modules if name.split(".")[0] in ("PySide6", "shiboken6")])
"""

SHELL = """
import sys
from PySide6.QtCore import QSettings
from sagen.desk.app import make_application, make_shell
app = make_application()
window = make_shell(QSettings(sys.argv[1], QSettings.Format.IniFormat))
window.show()
app.processEvents()
window.fill()
app.processEvents()
heavy = ("scipy", "pandas", "asammdf", "sqlalchemy", "alembic", "pydantic", "weasyprint", "numpy")
print([name for name in heavy if name in sys.modules])
"""


def fresh(code, *arguments):
    done = subprocess.run([sys.executable, "-c", code, *arguments], capture_output=True, text=True, timeout=100)
    assert done.returncode == 0, done.stderr
    return done.stdout.strip()


def test_core_never_imports_qt():
    assert fresh(CORE) == "[]"


def test_shell_paints_before_anything_heavy_is_imported(tmp_path):
    assert fresh(SHELL, str(tmp_path / "s.ini")) == "[]"


def test_qt_counts_its_references_to_none():
    # PySide6 6.12.0 on Python 3.11 drops one reference to None with every call that returns it, and aborts
    # after some thousands.
    from PySide6.QtCore import QObject

    before = sys.getrefcount(None)
    for _ in range(500):
        QObject().setObjectName("x")
    assert sys.getrefcount(None) > before - 100


def rgb(colour):
    return tuple(int(colour[i : i + 2], 16) for i in (1, 3, 5))


@pytest.mark.parametrize("look", LOOKS.values(), ids=LOOKS)
def test_text_reads_at_arms_length(look):
    # WCAG 2.1, 1.4.3 (text 4.5:1) and 1.4.11 (graphics 3:1), by the package wcag-contrast-ratio.
    def contrast(one, other):
        return wcag_contrast_ratio.rgb(*(tuple(c / 255 for c in rgb(x)) for x in (one, other)))

    for ground in (look.pane, look.raised):
        for text in (look.ink, look.quiet, look.accent, look.mark, look.sound):
            assert contrast(text, ground) >= 4.5, (text, ground)
        for colour in look.roles.values():
            assert contrast(colour, ground) >= 3.0, (colour, ground)
    assert contrast(look.on_accent, look.accent) >= 4.5


@pytest.mark.parametrize("look", LOOKS.values(), ids=LOOKS)
@pytest.mark.parametrize("kind", ["protanomaly", "deuteranomaly", "tritanomaly"])
def test_roles_stay_apart_for_colour_blind_eyes(look, kind):
    # Machado, Oliveira & Fernandes 2009, as implemented by colorspacious; a plain red and green fall to 5.2.
    sight = {"name": "sRGB1+CVD", "cvd_type": kind, "severity": 100}
    rotating = [np.array(rgb(look.roles[one])) / 255 for one in ("crank", "cam", "speed", "knock")]
    seen = [np.clip(cspace_convert(one, sight, "sRGB1"), 0, 1) for one in rotating]
    assert min(deltaE(a, b, input_space="sRGB1") for a, b in combinations(seen, 2)) > 10
