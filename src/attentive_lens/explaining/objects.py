"""Whether an answer rests on the object or on all else: what of a map lies inside, and what covering either does.

A network that has never seen an image without its object answers something all the same, always the same perhaps. So
that alone tells nothing: objects are also put into the rest of other images, and the answer follows one or the other.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import binary_dilation, gaussian_filter

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.random import random_generator
from attentive_lens.explaining.trials import predicted_of, scores_of
from attentive_lens.images.outlines import is_inside
from attentive_lens.images.pixel_format import PixelArray, levels, of_levels
from attentive_lens.predicting import Predictor

MARGIN = 0.03
"""Of the shorter side: what lies so near to the outline goes with the object, for outlines are never exact."""
SWAPS = 8
"""Other images into whose rest an object is put."""
FOLLOWS = 0.5
"""Part of other objects that must get the answer in its rest for the answer to rest on that."""
MORE = 0.25
"""By how much that must exceed how often images get this answer where neither object nor rest had it."""
AT_ONCE = 16
MOST_BYTES = 1 << 28
"""Of the images that are looked at; twice as much again is needed beside them."""
KNOWN = 0.02
"""Weight of what is known about a pixel, from which it can be filled."""


def share_inside(map_: NDArray[np.float32], covered: NDArray[np.float32]) -> float | None:
    """Part of what a map H×W says for the answer that lies inside, 0–1; None where it says nothing.

    Parameters
    ----------
    map_ : ndarray, H×W float32
        What speaks against the answer is below zero, and left out.
    covered : ndarray, H×W float32
        From `outlines.coverage`.
    """
    strength = np.maximum(np.asarray(map_, np.float64), 0)
    total = strength.sum()
    return float((strength * covered).sum() / total) if total > 0 else None


def strongest(map_: NDArray[np.float32]) -> tuple[int, int]:
    """Row and column of the place where a map says most for the answer, smoothed over a pixel."""
    smooth = gaussian_filter(np.maximum(np.asarray(map_, np.float64), 0), 1)
    row, column = np.unravel_index(int(smooth.argmax()), smooth.shape)
    return int(row), int(column)


def with_margin(covered: NDArray[np.float32]) -> NDArray[np.bool_]:
    """The object's pixels H×W and those beside it; of an object that then fills the image, its own."""
    inside = is_inside(covered)
    wider: NDArray[np.bool_] = binary_dilation(inside, iterations=max(1, round(MARGIN * min(inside.shape))))
    return inside if wider.all() else wider


def without_object(image: PixelArray, covered: NDArray[np.float32]) -> PixelArray:
    """An image H×W×C whose object is filled from what lies about it, so smoothly that no shape remains.

    Known pixels are averaged with Gaussian weights over ever wider neighbourhoods until all are filled (normalised
    convolution, Knutsson & Westin 1993). Where nothing but the object is in the image, its mean colour is left.
    """
    hole = with_margin(covered)
    values = levels(image).astype(np.float64)
    if hole.all():
        return of_levels(np.broadcast_to(values.mean(axis=(0, 1)), values.shape), image.dtype)
    weight = (~hole).astype(np.float64)
    known, filled, width = values * weight[..., None], values.copy(), 1.0
    while hole.any():
        near = gaussian_filter(weight, width, mode="nearest")
        here = hole & (near > KNOWN)
        if here.any():
            sums = gaussian_filter(known, (width, width, 0), mode="nearest")
            filled[here] = sums[here] / near[here][:, None]
            hole = hole & ~here
        width *= 2
    return of_levels(filled, image.dtype)


def object_alone(image: PixelArray, covered: NDArray[np.float32]) -> PixelArray:
    """An image H×W×C with all but the object in the mean colour of what it covers."""
    rest = ~with_margin(covered)
    values = levels(image).astype(np.float64)
    if rest.any():
        values[rest] = values[rest].mean(axis=0)
    return of_levels(values, image.dtype)


def put_into(image: PixelArray, covered: NDArray[np.float32], rest: PixelArray) -> PixelArray:
    """The object of an image in the rest of another, whose own was filled; both H×W×C."""
    inside = with_margin(covered)[..., None]
    return np.asarray(np.where(inside, image, rest))


@dataclass(frozen=True, eq=False)
class ObjectTrial:
    """What became of answers to N images.

    Attributes
    ----------
    without, alone : ndarray, N int64
        Classes said once the object, or everything else, is covered.
    rest : ndarray, N float64
        Part of other images' objects that, put into its rest, get its answer; NaN where no other answer was given.
    object : ndarray, N float64
        Part of other images' rests in which its object keeps its answer; NaN where it was put into none.
    usual : ndarray, K float64
        How often each class is said where neither the object nor the rest got that answer.
    probability : ndarray, N×3 float64
        Of the class said of each image: as it is, once the object is covered, and once everything else is.
    """

    without: NDArray[np.int64]
    alone: NDArray[np.int64]
    rest: NDArray[np.float64]
    object: NDArray[np.float64]
    usual: NDArray[np.float64]
    probability: NDArray[np.float64]

    def on_rest(self, predicted: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Which of the answers N rest on what is not the object.

        They stay without it, and other objects get them too in that rest, far more often than elsewhere: where object
        and rest say different things, the rest wins. ``benchmarks/real/objects.py`` says how often that is wrong.
        """
        follows = (self.rest >= FOLLOWS) & (self.rest - self.usual[predicted] >= MORE)
        return np.asarray(follows & (self.without == predicted))


def try_objects(
    predictor: Predictor,
    pixels: PixelArray,
    covered: NDArray[np.float32],
    predicted: NDArray[np.int64],
    true: NDArray[np.int64],
) -> Job[ObjectTrial]:
    """Cover the object, cover everything else, and swap objects.

    Parameters
    ----------
    predictor : Predictor
        The model that is asked.
    pixels : ndarray, N×H×W×C uint8 or float32
        Images at the input size.
    covered : ndarray, N×H×W float32
        Where the objects are, from `outlines.coverage`.
    predicted, true : ndarray, N int64
        What is said of the images as they are, and the classes on their labels.
    """
    doing = "covering objects and what is about them"
    count, classes = len(pixels), len(predictor.classes)
    rests = np.empty_like(pixels)
    without, alone = np.zeros(count, np.int64), np.zeros(count, np.int64)
    probability = np.zeros((count, 3))
    for some in _chunks(np.arange(count)):
        yield Progress(int(some[0]), 3 * count, doing)
        for k in some:
            rests[k] = without_object(pixels[k], covered[k])
        objects = np.stack([object_alone(pixels[k], covered[k]) for k in some])
        scores = [scores_of(predictor, images) for images in (pixels[some], rests[some], objects)]
        without[some], alone[some] = predictor.predicted(scores[1]), predictor.predicted(scores[2])
        of_said = [predictor.checked(each)[np.arange(len(some)), predicted[some]] for each in scores]
        probability[some] = np.stack(of_said, axis=1)
    rest, own = np.zeros((2, count)), np.zeros((2, count))  # so many got the answer, of so many
    seen, said = np.zeros(classes), np.zeros(classes)
    random = random_generator(0, "objects put into other images")
    for swap in range(SWAPS):
        partners = _partners(predicted, true, random)
        able = np.flatnonzero(partners >= 0)
        others, got = partners[able], np.zeros(len(able), np.int64)
        for some in _chunks(np.arange(len(able))):
            done = count + (swap * count + int(some[0])) * 2 // SWAPS
            yield Progress(done, 3 * count, "putting objects into other images")
            pairs = zip(able[some], others[some], strict=True)
            made = [put_into(pixels[other], covered[other], rests[k]) for k, other in pairs]
            got[some] = predicted_of(predictor, np.stack(made))
        for counts, images in ((rest, able), (own, others)):
            np.add.at(counts[0], images, got == predicted[images])
            np.add.at(counts[1], images, 1)
        expected = np.zeros((len(able), classes), bool)
        for each in (predicted[able], predicted[others], true[others]):
            expected[np.arange(len(able)), each] = True
        seen += (~expected).sum(axis=0)
        said += np.bincount(got[~expected[np.arange(len(able)), got]], minlength=classes)
    of_rest, of_object = (np.where(of > 0, part / np.maximum(of, 1), np.nan) for part, of in (rest, own))
    return ObjectTrial(without, alone, of_rest, of_object, said / np.maximum(seen, 1), probability)


def most_images(image: PixelArray) -> int:
    """How many images of this size can be looked at, in memory for which one need not be asked."""
    return max(1, MOST_BYTES // image.nbytes)


def _chunks(places: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    return [places[k : k + AT_ONCE] for k in range(0, len(places), AT_ONCE)]


def _partners(predicted: NDArray[np.int64], true: NDArray[np.int64], random: np.random.Generator) -> NDArray[np.int64]:
    """For each image one whose object is of another class than what is said of it, and gets another answer.

    Each is taken about as often as any other; −1 where there is none.
    """
    partners = random.permutation(len(predicted)).astype(np.int64)
    unlike = (predicted[None] != predicted[:, None]) & (true[None] != predicted[:, None])
    for k in np.flatnonzero(~unlike[np.arange(len(partners)), partners]).tolist():
        others = np.flatnonzero(unlike[k])
        partners[k] = random.choice(others) if len(others) else -1
    return partners
