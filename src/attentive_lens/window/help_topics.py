"""Which page of the documents is about what somebody looks at."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

TOPICS = {
    "AugmentationEditor": "how-to/augmentation",
    "AveragesView": "how-to/look-and-decide",
    "BasePanel": "how-to/base",
    "CaseBookView": "how-to/case-book",
    "CasePanel": "how-to/case-book",
    "CausesPanel": "how-to/causes",
    "ClassesPanel": "how-to/causes",
    "EvidenceColumn": "how-to/look-inside",
    "ExplainPage": "how-to/explain",
    "FidelityView": "how-to/generator",
    "Findings": "how-to/faults",
    "Frame": "how-to/window",
    "ImagesPage": "how-to/look-and-decide",
    "ImportWindow": "how-to/bring-images-in",
    "LabelsView": "how-to/several-labels",
    "LayerSheet": "reference/layers",
    "ManifoldView": "how-to/auto-encoder",
    "MapsPanel": "theory/maps",
    "ModelWindow": "how-to/desktop",
    "NetworkPage": "how-to/network",
    "NewImagesView": "how-to/drift",
    "NextStepsView": "how-to/what-to-do-next",
    "ObjectsView": "how-to/objects",
    "RatesPanel": "how-to/sweeps",
    "RunsPanel": "how-to/sweeps",
    "StarterChooser": "how-to/starting-networks",
    "SweepTools": "how-to/sweeps",
    "ReconstructionsView": "how-to/auto-encoder",
    "ResultsPage": "how-to/results",
    "SamplesView": "how-to/auto-encoder",
    "SetsView": "how-to/split",
    "SettingsPanel": "how-to/train",
    "ShelfPage": "how-to/shelf",
    "SizesView": "how-to/train",
    "TrainingPage": "how-to/watch-and-steer",
    "Welcome": "begin/first-ten-minutes",
}
"""Page of the documents by the class of a panel."""
MOST_OF_IT = 0.35
"""Part of a page that a panel fills from which it is what somebody looks at, wherever the keys go."""


def topic_of(widget: QWidget | None) -> str:
    """The page about a widget: that of the innermost panel that has one.

    Where keys go to a whole page, it is that of the largest panel on it.
    """
    while widget is not None:
        page = TOPICS.get(type(widget).__name__)
        if page is not None:
            inner = [
                each for each in widget.findChildren(QWidget) if type(each).__name__ in TOPICS and each.isVisible()
            ]
            area = MOST_OF_IT * widget.width() * widget.height()
            largest = max(inner, key=lambda each: each.width() * each.height(), default=None)
            if largest is not None and largest.width() * largest.height() >= area:
                return TOPICS[type(largest).__name__]
            return page
        widget = widget.parentWidget()
    return TOPICS["Frame"]
