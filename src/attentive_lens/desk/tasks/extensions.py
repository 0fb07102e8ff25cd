"""The task that lists what other packages bring."""

from __future__ import annotations

from typing import Any

from attentive_lens.core.extensions import Parts, met
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.requests.extensions import ExtensionsListed, ListExtensions


def list_extensions(request: ListExtensions) -> Job[ExtensionsListed]:
    """See `ListExtensions`: every table that can be extended is loaded."""
    import attentive_lens.images.sources
    import attentive_lens.plan.plan  # noqa: F401  # for what their tables take in
    from attentive_lens.engine import layers, losses, optimisers, schedules
    from attentive_lens.explaining import saliency
    from attentive_lens.images import augmentation
    from attentive_lens.scoring import more_measures
    from attentive_lens.training import stopping

    del request
    yield Progress(0, 1, "listing extensions")
    tables: tuple[Parts[Any], ...] = (
        *(layers.LAYERS, losses.LOSSES, optimisers.OPTIMISERS, schedules.SCHEDULES),
        *(saliency.METHODS, augmentation.AUGMENTATIONS, more_measures.COMPUTED, stopping.RULES),
    )
    for table in tables:
        table.load_all()
    return ExtensionsListed(tuple(sorted(met(), key=lambda each: (each.group, each.name))))
