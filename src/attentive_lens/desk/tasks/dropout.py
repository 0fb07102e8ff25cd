"""The task that shows dropout at work."""

from __future__ import annotations

import numpy as np

from attentive_lens.core.jobs import Job
from attentive_lens.desk.requests.dropout import DropoutSeen, SeeDropout
from attentive_lens.desk.results.models import answered_image
from attentive_lens.errors import NotHere
from attentive_lens.explaining.dropout import at_work
from attentive_lens.explaining.probe import Probe
from attentive_lens.predicting import Predictor


def see_dropout(request: SeeDropout) -> Job[DropoutSeen]:
    """See `SeeDropout`."""
    answered = yield from answered_image(request.subject)
    predictor = Predictor.of(answered.model)
    image = predictor.prepare(answered.pixels[None])
    seen = at_work(Probe(predictor), image[0], request.draws)
    if not seen.masks:
        raise NotHere("There is no dropout to see", "the network has no such layer, or its rate is 0", "Choose another")
    masks = {name: np.ascontiguousarray(mask, np.uint8) for name, mask in seen.masks.items()}
    return DropoutSeen(masks, answered.model.classes, seen.answers, np.asarray(predictor.answers(image)[0], np.float32))
