"""JPEG artefacts."""

from __future__ import annotations

import io

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.plan.recipe import Jpeg


class JpegChange(Tonal):
    """Packed and unpacked in memory."""

    def apply(self, step: Jpeg, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, at 256 levels."""
        quality = round(random.uniform(*step.between))
        pixels = (image * 255 + 0.5).astype(np.uint8)
        picture = Image.fromarray(pixels if pixels.shape[2] == 3 else pixels[:, :, 0])
        packed = io.BytesIO()
        picture.save(packed, "JPEG", quality=quality)
        with Image.open(packed) as unpacked:
            image[...] = np.asarray(unpacked, np.float32).reshape(image.shape) / 255
