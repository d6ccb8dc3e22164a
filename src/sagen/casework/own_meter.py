"""The person's own meter: its accuracy, kept for every reading to come."""

from __future__ import annotations

from sagen.artifacts.atomic import write_whole
from sagen.meter import Accuracy, accuracy_file
from sagen.model.errors import SagenError
from sagen.model.language import tr


def keep_accuracy(text: str) -> None:
    """Make this the accuracy of the person's own meter, as "0.8% + 3"; "" for none stated.

    Raises
    ------
    SagenError
        for what is no accuracy, and when the disk refuses.
    """
    path = accuracy_file()
    try:
        if not text:
            path.unlink(missing_ok=True)
            return
        Accuracy.parse(text)
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise SagenError(
            tr("{path} cannot be written: {strerror}", path=path, strerror=error.strerror or error)
        ) from None
    write_whole(path, f'accuracy = "{text}"\n'.encode())
