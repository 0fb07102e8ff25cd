"""The command that asks a model about new images, however many."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from attentive_lens.cli.app import AsJson, app, out_file, printable
from attentive_lens.cli.results.answer_results import AnswersWritten
from attentive_lens.cli.speaking import console, out, reporting, say_json, watched
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.telling import counted
from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.errors import BadFile, BadUsage

if TYPE_CHECKING:
    from attentive_lens.desk.results.answer_files import AnswerFile
    from attentive_lens.desk.results.familiar import Familiar
    from attentive_lens.formats.bundle import ModelFile


@app.command()
@reporting
def predict(
    model: Annotated[Path, typer.Argument(help="Model file (.alens or .onnx).", metavar="MODEL")],
    images: Annotated[
        list[Path],
        typer.Argument(help="Image files (FILE#2: a page), or folders of them.", metavar="IMAGE_OR_FOLDER…"),
    ],
    unlike: Annotated[
        bool,
        typer.Option("--unlike", help="Tell how unlike all training images each is; for the model of a run."),
    ] = False,
    file: Annotated[
        Path | None,
        out_file("Write the answers there: .csv, .jsonl or .parquet."),
    ] = None,
    resume: Annotated[
        bool, typer.Option("--resume", help="Go on with a file that broke off: what it holds is not asked again.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Ask a model about new images; folders of any size, a line each or into a file."""
    from attentive_lens.desk.results.answer_files import AnswerFile
    from attentive_lens.desk.results.answering import answers_to, image_files
    from attentive_lens.desk.results.beside_model import familiar_to
    from attentive_lens.desk.results.models import model_of

    if resume and file is None:
        raise BadUsage("--resume goes on with a file", "none is named", "Name it with --out")
    read = model_of(model)
    if caution := read.preprocessor.settings.caution_of_files:
        console.print(caution)
    files = image_files(images, read.preprocessor.pixel_format)
    known = watched(familiar_to(model), "looking at what it was trained on") if unlike else None
    if file is not None:
        result = watched(_written(read, files, known, AnswerFile(file, read.classes, resume)), "answering")
        _say_written(result, as_json)
        return
    answered = False
    for batch in answers_to(read, files, known):
        for each in batch:
            answered = answered or isinstance(each, Prediction)
            say_answer(replace(each, file=printable(each.file)), as_json)
    if not answered:
        why = "none of the files could be read; each line above says why"
        raise BadFile("Nothing was answered", why, "Name image files")


def say_answer(result: Prediction | Unreadable, as_json: bool) -> None:
    """Print an answer, a line each."""
    if as_json:
        say_json(result)
    elif isinstance(result, Unreadable):
        out.print(f"{result.file}: not read, {result.error}")
    else:
        strange = ""
        if result.unlike is not None and result.unlike > 1:
            strange = f", unlike all training images ({result.unlike:.1f} times the usual distance)"
        first = f", the first of {result.pages} pages" if result.pages > 1 else ""
        out.print(f"{result.file}: {result.predicted} ({result.probability:.2f}){strange}{first}")


def _written(model: ModelFile, files: Iterator[str], known: Familiar | None, into: AnswerFile) -> Job[AnswersWritten]:
    """Answers into a file; whatever ends it, what was written is whole lines and can be gone on with."""
    from attentive_lens.desk.results.answering import answers_to

    predicted: Counter[str] = Counter()
    unreadable = unlike = answered = first_pages = 0
    held, began = len(into.done), time.monotonic()
    try:
        for batch in answers_to(model, (name for name in files if printable(name) not in into.done), known):
            result = [replace(each, file=printable(each.file)) for each in batch]
            into.write(result)
            for each in result:
                if isinstance(each, Unreadable):
                    unreadable += 1
                else:
                    answered += 1
                    first_pages += each.pages > 1
                    predicted.update(each.labels if model.several else (each.predicted,))
                    unlike += each.unlike is not None and each.unlike > 1
            pace = (answered + unreadable) / max(time.monotonic() - began, 1e-9)
            yield Progress(held + answered + unreadable, 0, f"answering · {pace:.0f} images/s")
        into.finish()
    finally:
        into.close()
    seconds = time.monotonic() - began
    counts = {name: predicted[name] for name in model.classes}
    return AnswersWritten(str(into.file), answered, max(0, held - (into.kind == ".csv")), unreadable,
                          unlike if known is not None else None, counts, round(seconds, 2), first_pages)  # fmt: skip


def _say_written(result: AnswersWritten, as_json: bool) -> None:
    if as_json:
        say_json(result)
        return
    before = f", {result.held} were there already" if result.held else ""
    out.print(f"{result.answered} images answered in {result.seconds:.1f} s{before}; written to {result.file}")
    out.print(", ".join(f"{name} {count}" for name, count in result.predicted.items()))
    if result.unreadable:
        out.print(f"{result.unreadable} files could not be read; their lines say why")
    if result.first_pages:
        files = counted(result.first_pages, "file", "files")
        out.print(f"of {files} with several pages the first was answered; FILE#2 is the second")
    if result.unlike is not None:
        out.print(f"{result.unlike} are unlike all training images")
