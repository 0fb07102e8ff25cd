"""What a model on the Shelf is, as told by its file, and what was built on it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache
from pathlib import Path

from attentive_lens.desk.requests.shelf import ShelfModel
from attentive_lens.errors import LensError
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.base import Base
from attentive_lens.plan.examination import Facts
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.intervals import interval
from attentive_lens.workspace import OnShelf, Run, Workspace

SHIPS = "comes with the program"


def listed(workspace: Workspace) -> tuple[ShelfModel, ...]:
    """All models of its Shelf."""
    bases = _bases(workspace.runs())
    return tuple(shelf_model(each, bases) for each in workspace.shelf.models())


def shelf_model(place: OnShelf, bases: Mapping[int, Base]) -> ShelfModel:
    """A model; one whose file cannot be read says why."""
    said, names = place.said, (place.name, *place.said.earlier)
    origin = SHIPS if place.ships else said.origin
    built = tuple(number for number, base in bases.items() if base.on_shelf in names)
    try:
        model = model_at(place.file)
        size = place.file.stat().st_size
    except (LensError, OSError) as error:
        return ShelfModel(place.name, place.ships, origin, said.note, built=built, problem=str(error))
    settings, facts = model.preprocessor.settings, model.plan.facts(model.preprocessor.settings.shape)
    figures = said.figures
    low, high = interval(figures.accuracy, figures.images) if figures is not None and figures.images else (None, None)
    plan = plan_of(model)
    card_note = model.card.get("about")
    return ShelfModel(
        place.name,
        place.ships,
        origin,
        said.note or (card_note if isinstance(card_note, str) else ""),
        model.classes,
        settings.sides,
        settings.channels,
        len(model.plan.nodes),
        sum(fact.weights for fact in facts),
        sum(fact.multiply_adds for fact in facts),
        size,
        plan.base.words if plan is not None and plan.base is not None else "",
        built,
        figures.on if figures is not None else "",
        figures.images if figures is not None else 0,
        figures.accuracy if figures is not None else None,
        low,
        high,
        figures.loss if figures is not None else None,
        _plates(settings.shape, facts),
    )


def _plates(image: tuple[int, ...], facts: Sequence[Facts]) -> tuple[tuple[int, int], ...]:
    """Side and channels, wherever another pair of them begins."""
    pairs = [(shape[0] if len(shape) == 3 else 1, shape[-1]) for shape in (image, *(fact.shape for fact in facts))]
    return tuple(pair for k, pair in enumerate(pairs) if not k or pair != pairs[k - 1])


def model_at(file: Path) -> ModelFile:
    """A model file as it is now, read once while it stays so."""
    try:
        stat = file.stat()
        return _read(file, stat.st_mtime_ns, stat.st_size)
    except OSError:
        return read_model(file)  # says why it cannot be read


@lru_cache(maxsize=32)
def _read(file: Path, changed: int, size: int) -> ModelFile:
    del changed, size
    return read_model(file)


def plan_of(model: ModelFile) -> Plan | None:
    """The plan a model was trained by, as its card tells; None where that tells nothing of the kind."""
    table = model.card.get("plan")
    try:
        return Plan.read(table) if isinstance(table, dict) else None
    except LensError:
        return None


def _bases(runs: Iterable[Run]) -> dict[int, Base]:
    """What each run is built on, by number; runs on nothing, and those whose plan cannot be read, are not there."""
    bases = {}
    for run in runs:
        try:
            base = run.plan().base
        except LensError:
            continue
        if base is not None:
            bases[run.number] = base
    return bases
