"""Extensions: modules of other packages that add a file format, a fault mode, a page, an instrument or knowledge.

An extension names itself under the entry point group `sagen.extensions`; its module is imported once and registers
what it brings through the same doors as the rooms' own files do. Nothing is looked for on the network or in a folder
of captures.
"""

from __future__ import annotations

import logging
from functools import cache

from sagen.model.lazy import lazy

#: loaded when extensions are looked for, which is after the window stands
metadata = lazy("importlib.metadata")
GROUP = "sagen.extensions"


@cache
def load_extensions() -> tuple[str, ...]:
    """Import every extension once; answers their names. One that cannot be imported is logged and left out."""
    loaded = []
    for point in metadata.entry_points(group=GROUP):
        try:
            point.load()
            loaded.append(point.name)
        except Exception:
            logging.getLogger("sagen").exception("the extension %s cannot be loaded", point.name)
    return tuple(loaded)
