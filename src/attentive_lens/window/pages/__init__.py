"""The five stages and the Shelf: each a file, and two entries here. A page is loaded when it is first wanted."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from attentive_lens.window.pages.base import Page


@dataclass(frozen=True)
class Stage:
    """A stage as the rail shows it, and what loads its page."""

    word: str
    question: str
    load: Callable[[], type[Page]]


def _images() -> type[Page]:
    from attentive_lens.window.pages.images import ImagesPage

    return ImagesPage


def _network() -> type[Page]:
    from attentive_lens.window.pages.network import NetworkPage

    return NetworkPage


def _training() -> type[Page]:
    from attentive_lens.window.pages.training import TrainingPage

    return TrainingPage


def _results() -> type[Page]:
    from attentive_lens.window.pages.results import ResultsPage

    return ResultsPage


def _explain() -> type[Page]:
    from attentive_lens.window.pages.explain import ExplainPage

    return ExplainPage


def _shelf() -> type[Page]:
    from attentive_lens.window.pages.shelf import ShelfPage

    return ShelfPage


STAGES: dict[str, Stage] = {
    "images": Stage("Images", "What am I teaching from?", _images),
    "network": Stage("Network", "What will look at them?", _network),
    "training": Stage("Training", "Is it learning, and what?", _training),
    "results": Stage("Results", "How good is it, and on what?", _results),
    "explain": Stage("Explain", "Why this answer for this image?", _explain),
    "shelf": Stage("Shelf", "What can I build on, and hand on?", _shelf),
}

__all__ = ["STAGES", "Page", "Stage"]
