"""The views of the Results: each a file, and an entry here. A view is loaded when it is first wanted."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from attentive_lens.plan.tasks import Classify, Encode, Generate, MultiLabel
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, percent, thousands

if TYPE_CHECKING:
    from attentive_lens.window.results.view import ResultsView

DRAWING = (Encode.kind, Generate.kind)
ANSWERING = (Classify.kind, MultiLabel.kind)


@dataclass(frozen=True)
class View:
    """A view as the list shows it, and what loads it.

    Attributes
    ----------
    tip : str
        What is seen in it.
    figure : callable
        A few words for the list: what it would say first of the scores in view, before it is there itself; empty where
        that is not known.
    load : callable
        Gives its class.
    tasks : tuple of str
        What the networks of the runs are for that have it.
    under : str
        The view below which it stands in the list, while that is open; empty for one that always stands there.
    """

    tip: str
    figure: Callable[[Session], str]
    load: Callable[[], type[ResultsView]]
    tasks: tuple[str, ...] = ANSWERING
    under: str = ""


def _overview() -> type[ResultsView]:
    from attentive_lens.window.results.overview import OverviewView

    return OverviewView


def _labels() -> type[ResultsView]:
    from attentive_lens.window.results.labels import LabelsView

    return LabelsView


def _matrix() -> type[ResultsView]:
    from attentive_lens.window.results.matrix import MatrixView

    return MatrixView


def _classes() -> type[ResultsView]:
    from attentive_lens.window.results.classes import ClassesView

    return ClassesView


def _confidence() -> type[ResultsView]:
    from attentive_lens.window.results.confidence import ConfidenceView

    return ConfidenceView


def _costs() -> type[ResultsView]:
    from attentive_lens.window.results.costs import CostsView

    return CostsView


def _slices() -> type[ResultsView]:
    from attentive_lens.window.results.slices import SlicesView

    return SlicesView


def _objects() -> type[ResultsView]:
    from attentive_lens.window.results.objects import ObjectsView

    return ObjectsView


def _map() -> type[ResultsView]:
    from attentive_lens.window.results.map import MapView

    return MapView


def _robustness() -> type[ResultsView]:
    from attentive_lens.window.results.robustness import RobustnessView

    return RobustnessView


def _against() -> type[ResultsView]:
    from attentive_lens.window.results.against import AgainstView

    return AgainstView


def _new_images() -> type[ResultsView]:
    from attentive_lens.window.results.new_images import NewImagesView

    return NewImagesView


def _samples() -> type[ResultsView]:
    from attentive_lens.window.results.drawings import SamplesView

    return SamplesView


def _fidelity() -> type[ResultsView]:
    from attentive_lens.window.results.fidelity import FidelityView

    return FidelityView


def _reconstructions() -> type[ResultsView]:
    from attentive_lens.window.results.drawings import ReconstructionsView

    return ReconstructionsView


def _between() -> type[ResultsView]:
    from attentive_lens.window.results.between import BetweenView

    return BetweenView


def _manifold() -> type[ResultsView]:
    from attentive_lens.window.results.drawings import ManifoldView

    return ManifoldView


def _interval(session: Session) -> str:
    """The interval of the accuracy."""
    scores = session.scores.current
    share = scores.measures.overview.accuracy if scores is not None else None
    if share is None or share.low is None or share.high is None:
        return ""
    return f"{share.low * 100:.1f} to {percent(share.high)}"


def _confusion(session: Session) -> str:
    """The most frequent confusion."""
    scores = session.scores.current
    pairs = scores.measures.confusions if scores is not None else ()
    return f"{thousands(pairs[0].images)}: {pairs[0].true} → {pairs[0].predicted}" if pairs else ""


def _least_recall(session: Session) -> str:
    """The class with the least recall."""
    scores = session.scores.current
    each = scores.measures.by_class if scores is not None else ()
    known = [(one.recall.value, one.name) for one in each if one.recall.value is not None]
    return f"{min(known)[1]} {percent(min(known)[0])}" if known else ""


def _calibration(session: Session) -> str:
    """How far confidence and accuracy are apart."""
    scores = session.scores.current
    error = scores.measures.calibration_error if scores is not None else None
    return f"off by {percent(error)}" if error is not None else ""


def _others(session: Session) -> str:
    """How many runs it can be set against."""
    others = sum(view.has_model and not view.draws for view in session.runs.views.values()) - 1
    return counted(others, "other run", "other runs") if others > 0 else "no other run"


OVERVIEW = "overview"
"""What is seen first of a run that answers classes, and what remarks belong to."""
VIEWS: dict[str, View] = {
    "labels": View(
        "How every label did, which go together, and from which probability each is said.",
        lambda _: "all of them",
        _labels,
        tasks=(MultiLabel.kind,),
    ),
    "overview": View(
        "Training, validation and test side by side, with their intervals and the gaps between them.",
        _interval,
        _overview,
    ),
    "matrix": View("Which class was taken for which.", _confusion, _matrix),
    "classes": View("Precision, recall and F1 of every class, and the curves of one.", _least_recall, _classes),
    "confidence": View(
        "How confident answers are, how often rightly, and what withholding unsure ones costs.",
        _calibration,
        _confidence,
    ),
    "costs": View(
        "What mistakes cost by a table of costs, and what deciding by least expected cost would save.",
        lambda _: "by a table",
        _costs,
        under="confidence",
    ),
    "slices": View(
        "Parts of the set, by brightness, sharpness, size or folder, that are answered worse than the rest.",
        lambda _: "parts of the set",
        _slices,
    ),
    "reconstructions": View(
        "Every image of the set beside what is drawn of its codes, the worst first.",
        lambda _: "worst first",
        _reconstructions,
        tasks=(Encode.kind,),
    ),
    "samples": View(
        "Images of random codes or noise, a row for each class where the network is told it.",
        lambda _: "drawn at random",
        _samples,
        tasks=DRAWING,
    ),
    "fidelity": View(
        "How near drawings are to real images, and each beside the training image nearest to it.",
        lambda _: "beside real images",
        _fidelity,
        tasks=DRAWING,
    ),
    "manifold": View(
        "A map of two codes: what is drawn where, and where the set's images are.",
        lambda _: "two codes",
        _manifold,
        tasks=DRAWING,
    ),
    "between": View(
        "The way from one image to another, drawn of the codes between theirs.",
        lambda _: "two images",
        _between,
        tasks=(Encode.kind,),
    ),
    "map": View(
        "All images laid out as a layer finds them alike: groups, strays, and images near those of other classes.",
        lambda _: "all images",
        _map,
        tasks=(*ANSWERING, Encode.kind),
    ),
    "robustness": View(
        "The same images made worse, grade by grade, or without their objects: what still comes out right.",
        lambda _: "not measured yet",
        _robustness,
    ),
    "objects": View(
        "Whether answers rest on the objects or on everything else, where outlines are known.",
        lambda _: "object or all else",
        _objects,
        under="robustness",
    ),
    "against": View("Another run's mistakes: fixed, newly made, or still there.", _others, _against),
    "new images": View(
        "Images of no set: dropped, pasted or opened, and answered at once.",
        lambda _: "of any folder",
        _new_images,
    ),
}
"""By their words, in the order of their buttons."""


def views_of(task: str, opened: str = "") -> tuple[str, ...]:
    """Those in the list for runs whose networks are for a task, with what stands below the one that is open."""
    near = ("", opened, VIEWS[opened].under) if opened else ("",)
    return tuple(word for word, view in VIEWS.items() if task in view.tasks and view.under in near)
