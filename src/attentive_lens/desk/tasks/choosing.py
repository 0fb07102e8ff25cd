"""The map method of some settings, with the image of the workspace that they name."""

from __future__ import annotations

from attentive_lens.core.jobs import Job
from attentive_lens.desk.requests.subjects import Subject
from attentive_lens.desk.results.models import other_image
from attentive_lens.explaining.methods import MapSettings
from attentive_lens.explaining.saliency import MapMethod, map_method
from attentive_lens.formats.bundle import ModelFile


def method_for(settings: MapSettings, subject: Subject, model: ModelFile) -> Job[MapMethod]:
    """The method, for maps of a subject or of other images of its workspace."""
    channels = model.preprocessor.settings.names_of_channels
    if settings.other_image is None:
        return map_method(settings, None, channels)
    pixels = yield from other_image(subject, settings.other_image)
    return map_method(settings, model.preprocessor.apply(pixels[None])[0], channels)
