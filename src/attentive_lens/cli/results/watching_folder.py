"""The command that answers to images as they appear in a folder."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from attentive_lens.cli.app import AsJson, app, map_method_option, out_file, printable
from attentive_lens.cli.results.predicting import say_answer
from attentive_lens.cli.speaking import console, out, reporting, watched
from attentive_lens.core.files import check_folder_of
from attentive_lens.desk.requests.models import Prediction
from attentive_lens.errors import BadFile, BadUsage, LensError

if TYPE_CHECKING:
    from attentive_lens.desk.results.drift import DriftByDay
    from attentive_lens.explaining.saliency import MapMethod
    from attentive_lens.formats.bundle import ModelFile


@app.command("watch-folder")
@reporting
def watch_folder(
    model: Annotated[Path, typer.Argument(help="Model file (.alens or .onnx).", metavar="MODEL")],
    folder: Annotated[Path, typer.Argument(help="Folder in which images appear.", metavar="FOLDER")],
    file: Annotated[Path | None, out_file("Write all answers there (.csv, .jsonl), not one beside each image.")] = None,
    maps: Annotated[bool, typer.Option("--maps", help="Write a map beside each image as well.")] = False,
    method: Annotated[str, map_method_option("Of the maps")] = "",
    unlike: Annotated[
        bool, typer.Option("--unlike", help="Tell how unlike all training images each is; for the model of a run.")
    ] = False,
    drift: Annotated[
        Path | None,
        typer.Option("--drift", metavar="FILE", help="Keep each day's drift there (.json), and a chart."),
    ] = None,
    seconds: Annotated[
        float, typer.Option("--every", metavar="SECONDS", min=0.1, max=3600, help="Between two looks.")
    ] = 1.0,
    once: Annotated[bool, typer.Option("--once", help="End when all that is there has its answer.")] = False,
    as_json: AsJson = False,
) -> None:
    """Answer to images as they appear in a folder, and write each answer beside its image; Ctrl+C ends it.

    What has its answer already is not asked again, so that it can be ended and begun at any time.
    """
    from attentive_lens.core.values import in_words
    from attentive_lens.desk.results.answer_files import AnswerFile
    from attentive_lens.desk.results.answering import Answering
    from attentive_lens.desk.results.appearing import Appearing, answers_as_they_come, write_beside
    from attentive_lens.desk.results.beside_model import familiar_to, held_out_to
    from attentive_lens.desk.results.drift import DriftByDay, write_chart
    from attentive_lens.desk.results.models import THREADS, model_of
    from attentive_lens.engine.threads import ThreadPool
    from attentive_lens.explaining.methods import DEFAULT, MAP_METHODS
    from attentive_lens.explaining.saliency import map_method
    from attentive_lens.images.pages import parted

    if not folder.is_dir():
        raise BadFile(f"{folder} cannot be watched", "there is no such folder", "Check the path")
    if drift is not None:
        check_folder_of(drift)
    if file is not None and file.suffix.lower() == ".parquet":
        why = "a Parquet file is whole only at its end, and this has none"
        raise BadUsage(f"{file} was not written", why, "Name a .csv or .jsonl file")
    read = model_of(model)
    drawn = None
    if maps or method:
        wanted = in_words("--method", MAP_METHODS, method or DEFAULT.kind)
        drawn = map_method(wanted, None, read.preprocessor.settings.names_of_channels)
    if caution := read.preprocessor.settings.caution_of_files:
        console.print(caution)
    known = watched(familiar_to(model), "looking at what it was trained on") if unlike else None
    days = DriftByDay(watched(held_out_to(model), "looking at held-out images"), drift) if drift is not None else None
    into = AnswerFile(file, read.classes, resume=file.exists()) if file is not None else None
    is_done: Callable[[str], bool] | None = None
    if into is not None:
        done = into.done
        is_done = lambda name: printable(name) in done  # noqa: E731
    differs = False
    with ThreadPool(THREADS) as thread_pool:
        appearing = Appearing(folder, is_done)
        answering = Answering(read, thread_pool, known, days)
        try:
            for batch in answers_as_they_come(answering, appearing, seconds, once):
                for answer in batch:
                    if drawn is not None and isinstance(answer, Prediction):  # before the answer: that says it is done
                        _draw(read, drawn, answer.file)
                    if into is None:
                        write_beside(answer, model.name, appearing.changed[parted(answer.file)[0]])
                named = [replace(answer, file=printable(answer.file)) for answer in batch]
                if into is not None:
                    into.write(named)
                    into.done.update(answer.file for answer in named)
                for answer in named:
                    say_answer(answer, as_json)
                if batch and days is not None:
                    days.keep()
                    differs = _say_drift(days, differs, as_json)
        finally:
            if into is not None:
                into.close()
            if days is not None and days.counts:
                days.keep()  # also where it was ended in the midst
                write_chart(days)


def _draw(model: ModelFile, method: MapMethod, file: str) -> None:
    """Write the map of an image beside it; one that has none, or has gone meanwhile, is told, and holds up no other."""
    from attentive_lens.desk.results.appearing import draw_beside
    from attentive_lens.desk.tasks.explaining import class_map

    try:
        pixels = model.preprocessor.picture(file).pixels
        map_ = class_map(model, pixels, method)
    except LensError as error:
        console.print(f"{printable(file)}: no map, {error.why}")
        return
    draw_beside(file, pixels, map_)


def _say_drift(days: DriftByDay, before: bool, as_json: bool) -> bool:
    """Tell of the latest day once it differs, or does no more; returns whether it differs."""
    latest = days.days()[-1]
    if latest.differs != before:
        (console if as_json else out).print(f"{latest.name}: {latest.sentence}")
    return latest.differs
