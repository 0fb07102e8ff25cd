"""The task that tells how images taken later differ from those a run was judged on."""

from __future__ import annotations

from datetime import datetime
from itertools import groupby
from pathlib import Path

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.requests.drift import BY_DAY, BY_FOLDER, DriftMeasured, MeasureDrift
from attentive_lens.desk.requests.models import Unreadable
from attentive_lens.desk.results.answering import Answering, image_files
from attentive_lens.desk.results.drift import DriftByDay, held_out
from attentive_lens.desk.results.figures import check_kind, drift_by_day, write_figure
from attentive_lens.desk.results.models import THREADS, model_of_run
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadFile, BadUsage
from attentive_lens.images.ahead import read_ahead
from attentive_lens.images.pages import parted
from attentive_lens.workspace import Workspace


def measure_drift(request: MeasureDrift) -> Job[DriftMeasured]:
    """See `MeasureDrift`."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    if not request.places:
        raise BadUsage("Nothing was measured", "no image is named", "Name image files, or folders of them")
    if request.file:
        check_kind(Path(request.file))
    model = model_of_run(run)
    names = image_files([Path(name) for name in request.places], model.preprocessor.pixel_format)
    usual = yield from held_out(place, run)
    days = DriftByDay(usual)
    read_files = unreadable = 0
    with ThreadPool(THREADS) as thread_pool:
        answering = Answering(model, thread_pool, None, days)
        for read in read_ahead(model.preprocessor, names):
            yield Progress(read_files, 0, f"measuring · {read_files} images")
            for part, own in groupby(read, lambda each: _part_of(parted(each.name)[0], request.by)):
                answers = answering.answer(list(own), part)
                unreadable += sum(isinstance(answer, Unreadable) for answer in answers)
            read_files += len(read)
    if read_files == unreadable:
        raise BadFile("Nothing was measured", "none of the files could be read as an image", "Name image files")
    parts = days.days()
    if request.file:
        write_figure(Path(request.file), drift_by_day(parts))
    return DriftMeasured(request.run, len(usual.reference), unreadable, parts, request.file)


def _part_of(file: str, by: str) -> str:
    """What an image is counted under."""
    if by == BY_FOLDER:
        return str(Path(file).parent)
    if by == BY_DAY:
        try:
            return datetime.fromtimestamp(Path(file).stat().st_mtime).date().isoformat()  # noqa: DTZ006  # the day here
        except OSError:  # it went since it was read
            return "of no day"
    return "all images"
