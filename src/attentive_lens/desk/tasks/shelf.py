"""The tasks about the Shelf."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from attentive_lens.core.files import write_bytes
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.images.data import gather
from attentive_lens.desk.network.bases import run_of
from attentive_lens.desk.requests.importing import ImportModel
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.shelf import (
    EditShelf,
    ListShelf,
    LookAtModel,
    ModelOpened,
    OpenModel,
    PutOnShelf,
    ShelfChanged,
    ShelfListed,
    ShelfNetwork,
    ShelfVerified,
    VerifyOnShelf,
)
from attentive_lens.desk.shelf.listing import listed, model_at, plan_of, shelf_model
from attentive_lens.desk.tasks.importing import import_model
from attentive_lens.desk.tasks.scoring import score, scores_of
from attentive_lens.errors import BadUsage, LensError, NotHere
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.base import OPEN, SHELF, Base
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.scores import Scores
from attentive_lens.workspace import Figures, OnShelf, Said, Workspace

JUDGES = ("test", "validation")
"""Sets that say how good a model is, the better one first."""
NOTHING = "-"


def list_shelf(request: ListShelf) -> Job[ShelfListed]:
    """See `ListShelf`."""
    yield Progress(0, 1, request.doing)
    return ShelfListed(listed(Workspace.open(Path(request.workspace))))


def look_at_model(request: LookAtModel) -> Job[ShelfNetwork]:
    """See `LookAtModel`."""
    yield Progress(0, 1, "reading the model")
    model = model_at(Workspace.open(Path(request.workspace)).shelf.model(request.model).file)
    return ShelfNetwork(tuple(model.plan.write()), model.preprocessor.settings.shape)


def open_model(request: OpenModel) -> Job[ModelOpened]:
    """See `OpenModel`.

    Raises
    ------
    BadFile
        If it cannot be read.
    BadUsage
        If it is a model of another program.
    """
    file = Path(request.file)
    if file.suffix.lower() == OPEN:
        why = "it is a model of the open format"
        raise BadUsage(f"«{file.name}» was not opened", why, "Take it in first: attentive-lens import-model")
    yield Progress(0, 1, request.doing)
    model = model_at(file)
    network = ShelfNetwork(tuple(model.plan.write()), model.preprocessor.settings.shape)
    plan = plan_of(model)
    draws = plan is not None and plan.task.draws
    labels = model.classes if model.several else ()
    caution = model.preprocessor.settings.caution_of_files
    known = shelf_model(OnShelf(file.name, file, False, Said(f"the file {file.name}")), {})
    return ModelOpened(known, network, _best(model), labels, draws, caution)


def _best(model: ModelFile) -> dict[str, float]:
    """Figures of the best epoch, as the card of a run's model tells them; the card may hold anything."""
    position = model.card.get("position")
    best = position.get("best") if isinstance(position, dict) else None
    if not isinstance(best, dict):
        return {}
    return {str(name): float(value) for name, value in best.items() if isinstance(value, int | float)}


def put_on_shelf(request: PutOnShelf) -> Job[ShelfChanged]:
    """See `PutOnShelf`."""
    place = Workspace.open(Path(request.workspace))
    place.check_writable("The model was not put on the Shelf")
    if request.name:
        place.shelf.check_free(request.name)
    if request.model.isdecimal():
        return (yield from _put_run(place, int(request.model), request))
    return (yield from _put_file(place, Path(request.model), request))


def _put_run(place: Workspace, number: int, request: PutOnShelf) -> Job[ShelfChanged]:
    run = place.run(number)
    if not run.model.exists():
        raise NotHere(f"Run {number} was not put on the Shelf", "it has no model yet", "Let it train an epoch first")
    figures = None
    for on in JUDGES:
        try:
            figures = _figures((yield from score(Score(request.workspace, number, on))))
        except LensError:
            continue
        break
    name = request.name or place.shelf.free_name(run.about().name or run.plan().name)
    said = Said(f"run {number} of {place.name}", request.note, figures=figures)
    place.shelf.put(name, lambda file: write_bytes(file, run.model.read_bytes()), said)
    return ShelfChanged(name, f"Run {number} is on the Shelf as «{name}».")


def _put_file(place: Workspace, source: Path, request: PutOnShelf) -> Job[ShelfChanged]:
    name, summary = request.name or place.shelf.free_name(source.stem), ""
    write: Callable[[Path], None]
    if source.suffix.lower() == OPEN:
        part = place.cache / f"taking-in-{source.stem}.alens"
        imported = yield from import_model(ImportModel(str(source), str(part)))
        summary = "".join(f" {sentence}" for sentence in replace(imported, file=name).words())

        def write(file: Path) -> None:
            part.replace(file)
    else:
        yield Progress(0, 1, request.doing)
        read_model(source)  # says what is wrong with it

        def write(file: Path) -> None:
            write_bytes(file, source.read_bytes())

    place.shelf.put(name, write, Said(f"the file {source.name}", request.note))
    return ShelfChanged(name, f"{source.name} is on the Shelf as «{name}».{summary}")


def edit_shelf(request: EditShelf) -> Job[ShelfChanged]:
    """See `EditShelf`."""
    place = Workspace.open(Path(request.workspace))
    place.check_writable("The Shelf was not changed")
    wishes = (request.rename, request.note, request.off, request.restore)
    if sum(map(bool, wishes)) != 1:
        raise BadUsage("The Shelf was not changed", "one thing is done at a time", "Give one of its options")
    yield Progress(0, 1, "changing the Shelf")
    shelf, name = place.shelf, request.model
    if request.restore:
        shelf.restore(name)
        return ShelfChanged(name, f"«{name}» is on the Shelf again.")
    if request.off:
        shelf.delete(name)
        return ShelfChanged(name, f"«{name}» is off the Shelf; --restore puts it back.")
    if request.rename:
        shelf.rename(name, request.rename)
        return ShelfChanged(request.rename, f"«{name}» is called «{request.rename}» now.")
    note = "" if request.note == NOTHING else request.note
    shelf.say(name, replace(shelf.model(name).said, note=note))
    return ShelfChanged(name, f"The note of «{name}» is kept.")


def verify_on_shelf(request: VerifyOnShelf) -> Job[ShelfVerified]:
    """See `VerifyOnShelf`."""
    place = Workspace.open(Path(request.workspace))
    on_shelf = place.shelf.model(request.model)
    stored, model = on_shelf.said.figures, read_model(on_shelf.file)
    plan = plan_of(model) or Plan()
    run = run_of(place, Base(until="all", model=f"{SHELF}{on_shelf.name}"))
    data = yield from gather(place, plan, run, model.preprocessor.settings)
    sets = (stored.on,) if stored is not None else tuple(on for on in JUDGES if len(data.members(on))) or JUDGES[:1]
    now = _figures((yield from scores_of(model, plan, data, sets[0])))
    if stored is None and place.writable and not on_shelf.ships:
        place.shelf.say(on_shelf.name, replace(on_shelf.said, figures=now))
    accuracy, loss = (stored.accuracy, stored.loss) if stored is not None else (None, None)
    same = stored in (None, now)
    return ShelfVerified(on_shelf.name, now.on, now.images, now.accuracy, now.loss, accuracy, loss, same)


def _figures(scores: Scores) -> Figures:
    return Figures(scores.on, scores.images, scores.accuracy, scores.loss)
