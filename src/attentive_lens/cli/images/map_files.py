"""A map of the data as a file: a table of the places, or a picture."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw

from attentive_lens.cli.results.answer_results import Mapped
from attentive_lens.cli.speaking import watched
from attentive_lens.core.files import check_folder_of, write_text
from attentive_lens.desk.images.map_layout import by_interest, into_unit, shown_apart
from attentive_lens.desk.map_colours import class_colour, in_colour
from attentive_lens.desk.requests.images import Prepare
from attentive_lens.desk.requests.mapping import DataMap
from attentive_lens.errors import BadFile

SIDE, ROOM, DOT = 1600, 34, 4
"""Pixels of the picture, of the room that an image claims, and of a dot where it finds none."""
PAPER, WRONG = "#FCFAF5", "#B53A20"


def write_map(workspace: Path, result: DataMap, summary: Mapped, file: Path) -> None:
    """Write places as CSV, or images at their places as PNG, those answered wrongly in a ring.

    Raises
    ------
    BadFile
        If the file cannot be written.
    """
    check_folder_of(file)
    if file.suffix.lower() == ".csv":
        lines = io.StringIO()
        table = csv.writer(lines, lineterminator="\n")
        table.writerow(["image", "file", "set", "true", "predicted", "across", "down"])
        for each in summary.images:
            row = [each.image, each.file, each.set, each.true, each.predicted]
            table.writerow([*row, f"{each.across:.6g}", f"{each.down:.6g}"])
        write_text(file, lines.getvalue())
        return
    picture = _picture(workspace, result)
    try:
        picture.save(file)
    except OSError as error:
        raise _unwritten(file, error) from None


def _unwritten(file: Path, error: OSError) -> BadFile:
    return BadFile(f"{file} could not be written", str(error.strerror or error).lower(), "Name another file with --out")


def _picture(workspace: Path, result: DataMap) -> Image.Image:
    from attentive_lens.desk.tasks import carry_out

    pixels = watched(carry_out(Prepare(str(workspace))), "preparing images").opened()
    places = into_unit(result.places) * SIDE
    sheet = Image.new("RGB", (SIDE, SIDE), PAPER)
    draw = ImageDraw.Draw(sheet)
    shown = set(shown_apart(places, by_interest(result.wrong), ROOM))
    for k, (x, y) in enumerate(places.tolist()):
        if k not in shown:
            draw.ellipse((x - DOT / 2, y - DOT / 2, x + DOT / 2, y + DOT / 2), fill=class_colour(int(result.true[k])))
    for k in sorted(shown):
        left, top = (round(float(v) - ROOM / 2) for v in places[k])
        one = np.asarray(pixels[int(result.images[k]) - 1])
        small = Image.fromarray(in_colour(one))
        sheet.paste(small.resize((ROOM - 6, ROOM - 6)), (left + 3, top + 3))
        box = (left + 2, top + 2, left + ROOM - 4, top + ROOM - 4)
        draw.rectangle(box, outline=class_colour(int(result.true[k])), width=2)
        if result.wrong[k]:
            draw.ellipse((left, top, left + ROOM - 2, top + ROOM - 2), outline=WRONG, width=3)
    return sheet
