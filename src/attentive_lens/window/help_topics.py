"""Which section of the guide is about what somebody looks at."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

TOPICS = {
    "AugmentationEditor": "augmentation",
    "AveragesView": "looking-and-deciding",
    "BasePanel": "the-shelf",
    "CaseBookView": "the-case-book",
    "CasePanel": "the-case-book",
    "CausesPanel": "from-one-mistake-to-the-cause-of-all",
    "ClassesPanel": "from-one-mistake-to-the-cause-of-all",
    "EvidenceColumn": "the-evidence",
    "ExplainPage": "the-stage",
    "FidelityView": "of-noise-a-generator-and-its-discriminator",
    "Findings": "faults",
    "Frame": "the-window",
    "ImagesPage": "looking-and-deciding",
    "ImportWindow": "your-own-images",
    "LabelsView": "several-labels",
    "LayerSheet": "layers-and-blocks",
    "ManifoldView": "networks-that-draw",
    "MapsPanel": "maps",
    "ModelWindow": "on-your-desktop",
    "NetworkPage": "on-the-bench",
    "NewImagesView": "are-todays-images-like-those-it-was-judged-on",
    "NextStepsView": "what-to-do-next",
    "ObjectsView": "object-or-everything-else",
    "RatesPanel": "rates-runs-sweeps",
    "RunsPanel": "rates-runs-sweeps",
    "StarterChooser": "starting-networks",
    "SweepTools": "rates-runs-sweeps",
    "ReconstructionsView": "networks-that-draw",
    "ResultsPage": "in-the-window",
    "SamplesView": "networks-that-draw",
    "SetsView": "the-split",
    "SettingsPanel": "plans",
    "ShelfPage": "the-shelf",
    "SizesView": "plans",
    "TrainingPage": "watching-and-steering",
    "Welcome": "your-own-images",
}
"""Section of the guide by the class of a panel."""
MOST_OF_IT = 0.35
"""Part of a page that a panel fills from which it is what somebody looks at, wherever the keys go."""


def topic_of(widget: QWidget | None) -> str:
    """The section about a widget: that of the innermost panel that has one.

    Where keys go to a whole page, it is that of the largest panel on it.
    """
    while widget is not None:
        slug = TOPICS.get(type(widget).__name__)
        if slug is not None:
            inner = [
                each for each in widget.findChildren(QWidget) if type(each).__name__ in TOPICS and each.isVisible()
            ]
            area = MOST_OF_IT * widget.width() * widget.height()
            largest = max(inner, key=lambda each: each.width() * each.height(), default=None)
            if largest is not None and largest.width() * largest.height() >= area:
                return TOPICS[type(largest).__name__]
            return slug
        widget = widget.parentWidget()
    return TOPICS["Frame"]
