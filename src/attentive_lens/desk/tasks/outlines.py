"""The task that takes in where objects are."""

from __future__ import annotations

from pathlib import Path

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.images.outline_files import Gathered
from attentive_lens.desk.images.outlines import known_outlines, take_outlines, write_outlines
from attentive_lens.desk.requests.images import Skipped
from attentive_lens.desk.requests.outlines import OutlinesKnown, TakeOutlines
from attentive_lens.workspace import Workspace


def outlines(request: TakeOutlines) -> Job[OutlinesKnown]:
    """See `TakeOutlines`."""
    place = Workspace.open(Path(request.workspace))
    yield Progress(0, 0, "reading outlines")
    if request.forget and not request.place:
        place.check_writable("The outlines were not forgotten")
        place.catalogue.outlines.forget()
    taken = (yield from take_outlines(place, Path(request.place), request.forget)) if request.place else Gathered()
    if request.file:
        write_outlines(place, Path(request.file))
    known, corrections = known_outlines(place), place.catalogue.corrections()
    drawn = sum(bool(each.outline) for each in corrections.values())
    skipped = tuple(Skipped(name, why) for name, why in taken.skipped)
    images = place.catalogue.size()[0]
    return OutlinesKnown(
        len(known), drawn, images, len(taken.outlines), skipped, place.catalogue.outlines.places(), request.file
    )
