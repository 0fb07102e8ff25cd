"""A report as a PDF file: the page that a browser would show, set on paper."""

from __future__ import annotations

import re
from base64 import b64decode
from binascii import Error as NoBase64
from pathlib import Path

from PyQt6.QtCore import QByteArray, QMarginsF, QRectF, QSizeF, Qt, QUrl
from PyQt6.QtGui import QImage, QPageLayout, QPageSize, QPainter, QPdfWriter, QTextDocument
from PyQt6.QtSvg import QSvgRenderer

from attentive_lens.errors import BadFile
from attentive_lens.window import look

DOTS = 144
"""Dots an inch: what a page's lengths are counted in."""
PICTURE, CHART = 96, 620
"""Pixels of a picture's side, and of a chart's width at most."""
FINER = 3
"""Times as many pixels as are shown in a chart, for paper."""

_SVG = re.compile(r"<svg\b.*?</svg>", re.DOTALL)
_IMAGE = re.compile(r"<img\b([^>]*?)\bsrc=\"data:image/\w+;base64,([^\"]+)\"([^>]*)>")
_FIGURE = re.compile(r"<(/?)figure>")
_WHITE = "<style>body { background: white; }</style></head>"


def print_report(report: Path, file: Path) -> int:
    """Write a report's HTML file as PDF on A4 pages; how many.

    Raises
    ------
    BadFile
        If the report cannot be read, or the file cannot be written.
    """
    try:
        words = report.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadFile(f"{report} could not be printed", f"it could not be read ({error})", "Write it again") from None
    document = on_paper(words)
    try:
        file.open("ab").close()  # the printer tells nobody why it fails
    except OSError as error:
        why = str(error.strerror or error).lower()
        raise BadFile(f"{file} could not be written", why, "Name another file") from None
    printer = QPdfWriter(str(file))
    printer.setResolution(DOTS)
    printer.setTitle(document.metaInformation(QTextDocument.MetaInformation.DocumentTitle))
    printer.setPageLayout(
        QPageLayout(
            QPageSize(QPageSize.PageSizeId.A4),
            QPageLayout.Orientation.Portrait,
            QMarginsF(15, 15, 15, 15),
            QPageLayout.Unit.Millimeter,
        )
    )
    room = printer.pageLayout().paintRectPixels(DOTS).size()
    document.setPageSize(QSizeF(room))
    painter = QPainter(printer)
    pages = document.pageCount()
    for page in range(pages):
        if page:
            printer.newPage()
        painter.save()
        painter.translate(0, -page * room.height())
        document.drawContents(painter, QRectF(0, page * room.height(), room.width(), room.height()))
        painter.restore()
    painter.end()
    return pages


def on_paper(words: str) -> QTextDocument:
    """The page with its charts and pictures as pictures of their own, which is what the text document knows."""
    document = QTextDocument()
    document.setDefaultFont(look.font(20))
    pictures: list[QImage] = []

    def chart(result: re.Match[str]) -> str:
        renderer = QSvgRenderer(QByteArray(result[0].encode()))
        size = renderer.defaultSize().scaled(CHART, CHART, Qt.AspectRatioMode.KeepAspectRatio)
        image = QImage(size * FINER, QImage.Format.Format_ARGB32)
        image.fill(Qt.GlobalColor.white)
        painter = QPainter(image)
        renderer.render(painter)
        painter.end()
        pictures.append(image)
        return f'<br><img src="picture:{len(pictures) - 1}" width="{size.width()}" height="{size.height()}">'

    def picture(result: re.Match[str]) -> str:
        image = QImage()
        try:
            image.loadFromData(b64decode(result[2], validate=True))
        except NoBase64:
            return ""
        pictures.append(image.scaled(PICTURE * FINER, PICTURE * FINER, Qt.AspectRatioMode.KeepAspectRatio))
        return f'<img src="picture:{len(pictures) - 1}" width="{PICTURE}" height="{PICTURE}"> '

    body = _IMAGE.sub(picture, _SVG.sub(chart, _FIGURE.sub(r"<\1div>", words.replace("</head>", _WHITE, 1))))
    for number, image in enumerate(pictures):
        document.addResource(QTextDocument.ResourceType.ImageResource.value, QUrl(f"picture:{number}"), image)
    document.setHtml(body)
    return document
