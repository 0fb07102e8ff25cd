"""What is done to every image before a network sees it: the working size, then the levels."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.errors import BadValue
from attentive_lens.plan.settings import Preparation


def to_square(pixels: NDArray[np.uint8], preparation: Preparation) -> NDArray[np.uint8]:
    """An image of any size at the working size.

    Parameters
    ----------
    pixels : ndarray, H×W×3 uint8
        As decoded.
    preparation : Preparation
        Side, fit and colour.

    Returns
    -------
    ndarray, side×side×C uint8
        C is 3, or 1 for grey (luma weights of ITU-R BT.601). A border has the mean colour of the image's edge.
    """
    side = preparation.side
    height, width = pixels.shape[:2]
    if preparation.fit == "crop" and height != width:
        least = min(height, width)
        top, left = (height - least) // 2, (width - least) // 2
        pixels = pixels[top : top + least, left : left + least]
    picture = Image.fromarray(pixels)
    if preparation.fit == "border" and height != width:
        most = max(height, width)
        edge = np.concatenate([pixels[0], pixels[-1], pixels[:, 0], pixels[:, -1]]).mean(axis=0)
        framed = Image.new("RGB", (most, most), (round(edge[0]), round(edge[1]), round(edge[2])))
        framed.paste(picture, ((most - width) // 2, (most - height) // 2))
        picture = framed
    if preparation.colour == "grey":
        picture = picture.convert("L")
    if picture.size != (side, side):
        picture = picture.resize((side, side), Image.Resampling.BILINEAR, reducing_gap=3.0)
    return np.asarray(picture).reshape(side, side, -1)


@dataclass(frozen=True)
class Levels:
    """The linear change of levels, per channel, measured on the training set only.

    Attributes
    ----------
    mean, deviation : tuple of float
        Of the training images' channels in 0–1; 0 and 1 where the plan only scales.
    """

    mean: tuple[float, ...]
    deviation: tuple[float, ...]

    @classmethod
    def measure(cls, images: NDArray[np.uint8], preparation: Preparation) -> Levels:
        """Mean and standard deviation of N×S×S×C uint8 training images, exactly, from their histograms."""
        channels = images.shape[3]
        if preparation.level == "scale":
            return cls((0.0,) * channels, (1.0,) * channels)
        means, deviations = [], []
        steps = np.arange(256) / 255
        for c in range(channels):
            counts = np.zeros(256, np.int64)
            for image in images:
                counts += np.bincount(image[:, :, c].reshape(-1), minlength=256)
            mean = float((counts * steps).sum() / counts.sum())
            spread = float((counts * (steps - mean) ** 2).sum() / counts.sum()) ** 0.5
            means.append(mean)
            deviations.append(max(spread, 1e-3))
        return cls(tuple(means), tuple(deviations))

    def apply(self, images: NDArray[np.uint8] | NDArray[np.float32]) -> NDArray[np.float32]:
        """Images N×S×S×C, as uint8 or as float32 in 0–1, as the network takes them: float32, mean about 0."""
        if images.shape[-1] != len(self.mean):
            raise BadValue(
                "The images do not fit the model",
                f"they have {images.shape[-1]} channels and it was trained on {len(self.mean)}",
                "Prepare them as the model's plan says",
            )
        scale = 255.0 if images.dtype == np.uint8 else 1.0
        factor = np.array([1 / (scale * d) for d in self.deviation], np.float32)
        offset = np.array([m / d for m, d in zip(self.mean, self.deviation, strict=True)], np.float32)
        out = images * factor
        out -= offset
        return out
