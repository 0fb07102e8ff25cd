"""The five stages. Each is one file and one line here."""

from attentive_lens.window.pages.base import Page
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.pages.images import ImagesPage
from attentive_lens.window.pages.network import NetworkPage
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.pages.training import TrainingPage

PAGES: dict[str, type[Page]] = {
    page.key: page
    for page in (
        ImagesPage,
        NetworkPage,
        TrainingPage,
        ResultsPage,
        ExplainPage,
    )
}

__all__ = ["PAGES", "Page"]
