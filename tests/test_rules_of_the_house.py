"""What must stay true of the code: no Qt in the core, a light start, a Qt that counts None right, colours that read."""

import ast
import subprocess
import sys
from enum import StrEnum
from itertools import combinations
from pathlib import Path

import numpy as np
import platformdirs
import pytest
import wcag_contrast_ratio
from colorspacious import cspace_convert, deltaE

import apart
import sagen
from conftest import demo_log
from sagen.desk.theme.roles import ROLES
from sagen.desk.theme.theme import THEMES
from sagen.model.language import CHOICE
from sagen.model.vocabulary import SensorKind
from sagen.store.places import default_folder

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
import sagen.desk.lenses.strip
print([name for name in heavy if name in sys.modules])
"""


def fresh(code, *arguments):
    done = subprocess.run([sys.executable, "-c", code, *arguments], capture_output=True, text=True, timeout=100)
    assert done.returncode == 0, done.stderr
    return done.stdout.strip()


def test_core_never_imports_qt():
    assert fresh(CORE) == "[]"


def test_shell_paints_before_anything_heavy_is_imported_and_a_strip_with_numpy_alone(tmp_path):
    assert fresh(SHELL, str(tmp_path / "s.ini")).splitlines() == ["[]", "['numpy']"]


ON_WORKERS = """
import sys, tempfile, threading
from pathlib import Path
seen = []
def heard(event, what):
    name = what[0] if event == "import" else ""
    if name.split(".")[0] in ("PySide6", "shiboken6") or name.startswith("sagen.desk"):
        if threading.current_thread() is not threading.main_thread():
            seen.append(name)
sys.addaudithook(heard)
from PySide6.QtCore import QEventLoop, QSettings, QTimer
from sagen.desk.app import make_application, make_window, own_log
app = make_application()
window = make_window(QSettings(sys.argv[1], QSettings.Format.IniFormat), demo=True)
window.show()
window.workspace.open_log(own_log(Path(sys.argv[2])))
for _ in range(600):
    loop = QEventLoop(); QTimer.singleShot(20, loop.quit); loop.exec()
    if window.workspace.idle and {"capture", "incoming"} <= set(window.navigation.pages):
        break
print(seen)
window.close()
"""


@pytest.mark.long
def test_no_part_of_qt_is_imported_on_a_workers_thread(tmp_path):
    # PySide6 makes its types when they are first imported; two threads doing so at once crash one start in twenty.
    log = demo_log()
    log.close()
    assert fresh(ON_WORKERS, str(tmp_path / "s.ini"), str(log.database.place.folder)) == "[]"


COLLECTED = """
import gc, threading
from PySide6.QtCore import QEventLoop, QTimer
from sagen.desk.app import make_application
from sagen.desk.collector import Collector
app = make_application()
where = []
gc.callbacks.append(lambda phase, info: where.append(threading.current_thread() is threading.main_thread()))
collector = Collector(lambda: True)
def litter():
    for _ in range(200_000):
        one = []; one.append(one)
thread = threading.Thread(target=litter); thread.start(); thread.join()
in_thread = len(where)
loop = QEventLoop(); QTimer.singleShot(1500, loop.quit); loop.exec()
print(in_thread, len(where) > 0, all(where), gc.isenabled())
"""


def test_garbage_is_collected_on_the_interface_thread_alone():
    assert fresh(COLLECTED) == "0 True True False"


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


@pytest.mark.parametrize("look", THEMES.values(), ids=THEMES)
def test_text_reads_at_arms_length(look):
    # WCAG 2.1, 1.4.3 (text 4.5:1) and 1.4.11 (graphics 3:1), by the package wcag-contrast-ratio.
    def contrast(item, other):
        return wcag_contrast_ratio.rgb(*(tuple(c / 255 for c in rgb(x)) for x in (item, other)))

    for ground in (look.pane, look.raised):
        for text in (look.ink, look.quiet, look.accent, look.mark, look.sound):
            assert contrast(text, ground) >= 4.5, (text, ground)
        for colour in ROLES[look.name].values():
            assert contrast(colour, ground) >= 3.0, (colour, ground)
    assert contrast(look.on_accent, look.accent) >= 4.5


@pytest.mark.parametrize("look", THEMES.values(), ids=THEMES)
@pytest.mark.parametrize("kind", ["protanomaly", "deuteranomaly", "tritanomaly"])
def test_roles_stay_apart_for_colour_blind_eyes(look, kind):
    # Machado, Oliveira & Fernandes 2009, as implemented by colorspacious; a plain red and green fall to 5.2.
    sight = {"name": "sRGB1+CVD", "cvd_type": kind, "severity": 100}
    rotating = [np.array(rgb(ROLES[look.name][name])) / 255 for name in ("crank", "cam", "speed", "knock")]
    seen = [np.clip(cspace_convert(item, sight, "sRGB1"), 0, 1) for item in rotating]
    assert min(deltaE(a, b, input_space="sRGB1") for a, b in combinations(seen, 2)) > 10


# the shape of the house -------------------------------------------------------------------------------------------

HOUSE = Path(sagen.__file__).parent


def trees(may_hold, *, outside=()):
    """What is looked through: parsing all of the house takes seconds, so only files whose text says that it may be there."""
    texts = [(path, path.read_text(encoding="utf-8")) for path in sorted(HOUSE.rglob("*.py"))]
    return [
        (path.relative_to(HOUSE), ast.parse(text))
        for path, text in texts
        if path.relative_to(HOUSE).parts[0] not in outside and may_hold(text)
    ]


def has_word(text, word):
    return f'"{word}"' in text or f"'{word}'" in text


def names_a_kind(node):
    if isinstance(node, ast.Tuple | ast.List | ast.Set):
        return any(names_a_kind(elt) for elt in node.elts)
    if isinstance(node, ast.Attribute):
        return isinstance(node.value, ast.Name) and node.value.id == "SensorKind"
    return isinstance(node, ast.Constant) and node.value in set(SensorKind) - {"current"}


def test_no_room_but_kinds_asks_which_kind_a_sensor_is():
    asked = []
    for file, tree in trees(
        lambda text: "SensorKind." in text or any(has_word(text, kind) for kind in SensorKind), outside=("kinds",)
    ):
        for node in ast.walk(tree):
            compared = [node.left, *node.comparators] if isinstance(node, ast.Compare) else []
            if isinstance(node, ast.match_case):
                compared = [item.value for item in ast.walk(node.pattern) if isinstance(item, ast.MatchValue)]
            if any(names_a_kind(item) for item in compared):
                asked.append(f"{file}:{node.lineno}")
    assert asked == []


def test_the_search_for_kinds_finds_one():
    found = ast.parse("if spec.sensor in ('hall', 'piezo') or kind == SensorKind.CURRENT: pass")
    compares = [node for node in ast.walk(found) if isinstance(node, ast.Compare)]
    assert [any(names_a_kind(comparator) for comparator in (node.left, *node.comparators)) for node in compares] == [
        True,
        True,
    ]


def test_entries_are_records_and_never_opened_by_key():
    opened = [
        f"{file}:{node.lineno}"
        for file, tree in trees(lambda text: ".data[" in text)
        for node in ast.walk(tree)
        if isinstance(node, ast.Subscript) and isinstance(node.value, ast.Attribute) and node.value.attr == "data"
    ]
    assert opened == []


def test_every_closed_set_stands_once():
    # A word of a closed set that another module lists again will one day differ from it.
    from sagen.model import vocabulary

    sets = [
        {str(item) for item in kind}
        for kind in vars(vocabulary).values()
        if isinstance(kind, type) and issubclass(kind, StrEnum) and len(list(kind)) >= 4
    ]
    assert len(sets) > 8
    again = []
    for file, tree in trees(lambda text: any(all(has_word(text, word) for word in this_set) for this_set in sets)):
        if file.name == "vocabulary.py":
            continue
        for node in ast.walk(tree):
            words = node.elts if isinstance(node, ast.Tuple | ast.List | ast.Set) else []
            words = node.keys if isinstance(node, ast.Dict) else words
            told = {word.value for word in words if isinstance(word, ast.Constant) and isinstance(word.value, str)}
            if len(told) >= 4 and any(told == this_set for this_set in sets):
                again.append(f"{file}:{node.lineno}")
    assert again == []


def test_nothing_of_a_test_run_goes_to_the_log_and_settings_of_whoever_runs_it():
    for place in (default_folder(), CHOICE.path, platformdirs.user_state_path("sagen")):
        assert place.is_relative_to(apart.folder())
