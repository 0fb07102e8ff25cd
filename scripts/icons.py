"""Draw the icon in the usual sizes from its SVG: python scripts/icons.py."""

from __future__ import annotations

import os
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication, QImage, QPainter
from PyQt6.QtSvg import QSvgRenderer

from attentive_lens.desktop.parts import ICONS, SIZES


def main() -> None:
    application = QGuiApplication([])
    renderer = QSvgRenderer(str(ICONS / "attentive-lens.svg"))
    for size in SIZES:
        image = QImage(size, size, QImage.Format.Format_ARGB32)
        image.fill(Qt.GlobalColor.transparent)
        painter = QPainter(image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        renderer.render(painter)
        painter.end()
        image.save(str(Path(ICONS) / f"{size}.png"))
    application.quit()


if __name__ == "__main__":
    main()
