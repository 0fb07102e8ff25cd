"""Tasks that explain: maps of one image and whether to believe them, activations, filters, common causes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.desk.images.data import Data
from attentive_lens.desk.requests.explaining import (
    ActivationMaps,
    Activations,
    Explain,
    Explanation,
    Filters,
    FirstFilters,
    LabelAnswer,
    LayerShape,
    MapChecks,
    MapOfClass,
    MapTrust,
    RegionOfMap,
    Trust,
    TrustChecks,
)
from attentive_lens.desk.results.models import (
    THREADS,
    AnsweredImage,
    answered_image,
    by_class,
    check_layer,
    class_number,
    model_and_data,
    model_answering,
    workspace_and_run,
)
from attentive_lens.desk.tasks.choosing import method_for
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue, LensError
from attentive_lens.explaining.feature_maps import feature_maps, first_filters
from attentive_lens.explaining.figures import Completeness, WeightRandomisation
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.explaining.objects import share_inside
from attentive_lens.explaining.probe import Probe, Targets, contrast_targets, contrasts
from attentive_lens.explaining.regions import evaluated, marked
from attentive_lens.explaining.saliency import MapMethod, map_method
from attentive_lens.explaining.trust import (
    blank,
    completeness,
    gains,
    rank_correlation,
    rivals_of,
    stability,
    weight_randomisation,
)
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Run

RANDOMISED_IMAGES, RANDOMISED_COSTLY = 32, 8
"""Images on which weight randomisation is measured; fewer for methods of hundreds of passes."""


def explain(request: Explain) -> Job[Explanation]:
    """See `Explain`."""
    image = yield from answered_image(request.subject)
    yield Progress(0, 1, "explaining the image")
    method = yield from method_for(request.method, request.subject, image.model)
    return (yield from explained(image, method, request.target))


def class_map(
    model: ModelFile, pixels: PixelArray, chosen: MapMethod, target: str | None = None
) -> NDArray[np.float32]:
    """The map of one image, H×W, for a class, or for the one that is said: that alone is computed.

    Parameters
    ----------
    model : ModelFile
        Who answers.
    pixels : ndarray, H×W×C uint8
        At its input size.
    chosen : MapMethod
    target : str, optional
        Name of the class; of a model that answers several labels, of the label, or else of the one most surely said.

    Raises
    ------
    LensError
        If there is no such class, or the method gives no map.
    """
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        image = predictor.prepare(pixels[None])[0]
        if model.several:
            target = target or _surest_label(predictor, image)
            model = model.about(target)
            predictor = Predictor.of(model, thread_pool)
        probe = Probe(predictor)
        scores = probe.scores(image[None])
        predictor.checked(scores)
        label = int(predictor.predicted(scores)[0]) if target is None else class_number(model, target)
        map_ = chosen.maps(probe, image, contrast_targets(contrasts(scores[0], [label]), probe.classes))[0]
    return _finite(map_, chosen)


def _finite(maps: NDArray[np.float32], chosen: MapMethod) -> NDArray[np.float32]:
    """Maps whose values are numbers; `BadValue` otherwise."""
    if not np.isfinite(maps).all():
        raise BadValue(
            f"{chosen.settings.label} gives no map", "some of its values are no numbers", "Choose another method"
        )
    return maps


def explained(answered: AnsweredImage, chosen: MapMethod, target: str | None) -> Job[Explanation]:
    """Answer and maps of one image, shown as soon as they are there, then their trust."""
    model, pixels, true = answered.model, answered.pixels, answered.label
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        probe = Probe(predictor)
        image = predictor.prepare(pixels[None])[0]
        scores = probe.scores(image[None])
        answers = predictor.checked(scores)[0]
        labels = {"predicted": int(predictor.predicted(scores)[0])}
        if true is not None:
            labels["true"] = true
        if target is not None:
            labels["for"] = class_number(model, target)
        elif true is None and answered.against is not None:
            labels["for"] = answered.against
        every = list(dict.fromkeys(labels.values()))
        pairs = contrasts(scores[0], every)
        targets = contrast_targets(pairs, probe.classes)
        maps = chosen.maps(probe, image, targets)
        difference = None
        if true is not None:
            difference = _difference(
                chosen, probe, image, (labels["predicted"], true), dict(zip(pairs, maps, strict=True))
            )
        _finite(maps, chosen)
        expected = chosen.should_sum_to(probe, image, targets)
        of_labels = Targets.classes(list(labels.values()), probe.classes)
        regions = evaluated(probe, image, of_labels, maps[0], marked(maps[0]))
        before, apart = predictor.output.answers(scores)[0], probe.of(scores, targets)[0]
        next_class = {label: model.classes[other] for label, other in pairs}
        trusts = []
        for k, label in enumerate(every):
            sums = completeness(maps[k], float(expected[k]), float(apart[k])) if expected is not None else None
            inside = share_inside(maps[k], answered.covered) if answered.covered is not None else None
            trusts.append(MapTrust(float(before[label]), None, None, not maps[k].any(), sums, inside))
        facts = model.plan.facts(model.preprocessor.settings.shape)
        result = Explanation(
            answered.subject,
            answered.number,
            answered.file,
            answered.set_name,
            model.classes[labels["predicted"]],
            model.classes[true] if true is not None else None,
            by_class(model.classes, answers),
            model.output,
            chosen.settings,
            tuple(
                MapOfClass(
                    key, model.classes[label], next_class[label], trusts[every.index(label)], maps[every.index(label)]
                )
                for key, label in labels.items()
            ),
            tuple(
                RegionOfMap(r.top, r.left, r.height, r.width, r.share, dict(zip(labels, r.gives, strict=False)))
                for r in regions
            ),
            tuple(LayerShape(fact.name, fact.shape) for fact in facts),
            pixels,
            difference,
            answered.covered,
            labels_answered(predictor, model, image, answered.labels),
        )
        yield Progress(0, 1, "deleting and restoring pixels", result)
        rivals = rivals_of(chosen, probe, image, targets, maps, blank(probe))
        measured = dict(zip(every, gains(probe, image, maps, pairs, rivals), strict=True))
    maps_of_classes = []
    for map_, label in zip(result.maps, labels.values(), strict=True):
        gain = measured[label]
        maps_of_classes.append(replace(map_, trust=replace(map_.trust, gain=gain, passed=gain.passed)))
    return replace(result, maps=tuple(maps_of_classes))


def _surest_label(predictor: Predictor, image: Array) -> str:
    """Of several labels, the one whose answer to a prepared image is farthest above its threshold, or least below."""
    answers = predictor.checked(predictor.scores(image[None]))[0]
    return predictor.classes[int((answers - np.array(predictor.thresholds)).argmax())]


def labels_answered(
    predictor: Predictor, model: ModelFile, image: Array, there: frozenset[str] | None
) -> tuple[LabelAnswer, ...]:
    """Every label's answer to a prepared image, where a model is asked about one of several."""
    if not model.label:
        return ()
    answers = OUTPUTS["sigmoid"].answers(predictor.raw_scores(image[None]))[0]
    rows = zip(model.labels, answers.tolist(), model.thresholds, strict=True)
    return tuple(
        LabelAnswer(name, answer, threshold, None if there is None else name in there)
        for name, answer, threshold in rows
    )


def _difference(
    method: MapMethod,
    probe: Probe,
    image: Array,
    pair: tuple[int, int],
    maps: dict[tuple[int, int], NDArray[np.float32]],
) -> NDArray[np.float32]:
    """The map of one class's score less another's: zero for a class less itself."""
    if pair[0] == pair[1]:
        return np.zeros(image.shape[:2], np.float32)
    if pair in maps:
        return maps[pair]
    if pair[::-1] in maps and method.settings.signed:
        return -maps[pair[::-1]]
    return np.asarray(method.maps(probe, image, contrast_targets([pair], probe.classes))[0])


def activations(request: Activations) -> Job[ActivationMaps]:
    """See `Activations`."""
    answered = yield from answered_image(request.subject)
    model = answered.model
    for name in request.layers:
        if name != IMAGE:
            check_layer(model, name)
    yield Progress(0, 1, "asking the layers")
    names = request.layers or (IMAGE, *(node.name for node in model.plan.nodes))
    outputs = feature_maps(model.network(), model.preprocessor.apply(answered.pixels[None])[0], names)
    return ActivationMaps({name: np.asarray(out, np.float32) for name, out in outputs.items()})


def trust(request: Trust) -> Job[TrustChecks]:
    """See `Trust`."""
    place, run = workspace_and_run(request.subject)
    model, data = yield from model_and_data(place, run)
    method = yield from method_for(request.method, request.subject, model)
    answered = yield from answered_image(request.subject)
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        probe = Probe(predictor)
        image = predictor.prepare(answered.pixels[None])[0]
        scores = probe.scores(image[None])
        labels = {"predicted": int(predictor.predicted(scores)[0])}
        if answered.label is not None:
            labels["true"] = answered.label
        pairs = contrasts(scores[0], list(labels.values()))
        targets = contrast_targets(pairs, probe.classes)
        yield Progress(0, 4, "deleting and restoring pixels")
        maps = method.maps(probe, image, targets)
        rivals = rivals_of(method, probe, image, targets, maps, blank(probe))
        measured = gains(probe, image, maps, pairs, rivals)
        yield Progress(1, 4, "adding a little noise")
        steady = stability(method, probe, image, targets, maps)
        expected = method.should_sum_to(probe, image, targets)
        agreement = {}
        for kind in MAP_METHODS:
            yield Progress(2, 4, "asking the other methods")
            other = map_method(kind)
            if request.agreement and kind != request.method.kind and _works(other, probe, image):
                agreement[kind] = rank_correlation(maps[0], other.maps(probe, image, targets)[0])
        yield Progress(3, 4, "randomising weights")
        randomised = _randomised(run, method, probe, data)
    checks = []
    for k, (key, label) in enumerate(labels.items()):
        sums: Completeness | None = None
        if expected is not None:
            sums = completeness(maps[k], float(expected[k]), float(probe.of(scores, targets)[0, k]))
        answer, gain = float(predictor.output.answers(scores)[0, label]), measured[k]
        checks.append(MapChecks(key, answer, gain, gain.passed, steady[k], sums))
    predicted = model.classes[labels["predicted"]]
    return TrustChecks(answered.number, request.method, predicted, tuple(checks), randomised, agreement)


def _works(method: MapMethod, probe: Probe, image: NDArray[np.float32]) -> bool:
    """Whether a method can be asked of this network at all."""
    try:
        method.maps(probe, image, Targets.classes([0], probe.classes))
    except LensError:
        return False
    return True


def _randomised(run: Run, method: MapMethod, probe: Probe, data: Data) -> WeightRandomisation:
    """As measured and kept before, or measured now; for the method's settings."""
    members = data.members("validation")
    members = members if len(members) else data.members("training")
    count = RANDOMISED_COSTLY if method.settings.slow else RANDOMISED_IMAGES
    chosen = members[np.linspace(0, len(members) - 1, min(count, len(members))).astype(int)]
    file = run.folder / f"randomised-{method.settings.kind}.npz"
    key = key_of(
        "weight randomisation against the next class",
        run.model,
        chosen.tolist(),
        *map(str, method.settings.unusual.values()),
    )
    known = stored(file, WeightRandomisation, key)
    if known is None:
        known = weight_randomisation(method, probe, probe.predictor.prepare(data.pixels[chosen]))
        keep(file, known, key)
    return known


def filters(request: FirstFilters) -> Job[Filters]:
    """See `FirstFilters`."""
    pictures = first_filters(model_answering(request.subject).network())
    yield Progress(1, 1)
    return Filters(*pictures) if pictures is not None else Filters(None, None)
