"""A frame of the Strip at 1, 10 and 100 million samples, against painting an empty widget; offscreen."""

from __future__ import annotations

import os
import sys

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QWidget

from benchmarks.timing import crank_samples, seconds
from sagen.desk.app import make_application
from sagen.desk.lenses.strip import StripView
from sagen.desk.theme import theme
from sagen.report.scene import Lane, Strip
from sagen.signal.pyramid import Pyramid


class Blank(QWidget):
    def paintEvent(self, _event) -> None:
        QPainter(self).fillRect(self.rect(), QColor("white"))


def main(sizes: list[int]) -> None:
    app = make_application()
    theme.apply(app, "light")
    image = QImage(1280, 800, QImage.Format.Format_RGB32)
    blank = Blank()
    blank.resize(1280, 800)
    floor = seconds(lambda: blank.render(image), 30)
    print(f"blank widget of 1280 x 800: {1e3 * floor:.2f} ms\n")
    print("| samples | channels | part shown | ms a frame, panning | x blank |")
    print("|---|---|---|---|---|")
    for millions in sizes:
        pyramid = Pyramid(crank_samples(millions * 1_000_000))
        for channels in (1, 4):
            lanes = tuple(
                Lane(f"{i}", "crank", "V", pyramid, bottom=-0.5, top=5.5, bands=((4, 5.3, "high"), (-0.2, 0.8, "low")))
                for i in range(channels)
            )
            view = StripView()
            view.resize(1280, 800)
            view.show_strip(Strip(1e6, millions * 1_000_000, lanes))
            for share in (1.0, 0.5, 0.01, 0.0005, 0.00001):
                view.fit()
                view.zoom(share)

                def frame(view=view):
                    view.pan(0.003)
                    view.render(image)

                taken = seconds(frame, 25)
                print(f"| {millions} M | {channels} | {100 * share:g} % | {1e3 * taken:.1f} | {taken / floor:.1f} |")
            sys.stdout.flush()


if __name__ == "__main__":
    main([int(item) for item in sys.argv[1:]] or [1, 10, 100])
