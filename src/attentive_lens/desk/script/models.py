"""A trained model, from Python."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.values import read_kind, unknown_word
from attentive_lens.desk.map_colours import in_colour, over_image
from attentive_lens.desk.results.answering import image_files
from attentive_lens.desk.results.models import by_class
from attentive_lens.desk.script.notebook import model_table
from attentive_lens.desk.tasks.explaining import class_map
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue
from attentive_lens.explaining.feature_maps import feature_maps
from attentive_lens.explaining.methods import DEFAULT, MAP_METHODS, MapSettings
from attentive_lens.explaining.saliency import map_method
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.decoding import of_array, of_picture
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.predicting import Predictor

OneImage: TypeAlias = str | Path | Image.Image | NDArray[np.generic]
"""A path (or a page of a file: «stack.tif#3»), a Pillow image, or an array H×W, H×W×1, H×W×3 or H×W×4: uint8, bool,
or floating point in 0–1."""

AT_ONCE = 64


class Model:
    """A trained model.

    Parameters
    ----------
    file : ModelFile
        As read.

    Attributes
    ----------
    classes : tuple of str
        Names by class number.
    card : mapping
        What it is and how it did: plan, figures, versions.
    """

    def __init__(self, file: ModelFile) -> None:
        self.file = file
        self.classes = file.classes
        self.card = file.card

    def __repr__(self) -> str:
        side = "×".join(map(str, self.file.preprocessor.settings.shape))
        count = sum(array.size for arrays in self.file.weights.values() for array in arrays.values())
        return f"<Model: {len(self.classes)} classes, {side} images, {len(self.layers)} layers, {count} weights>"

    def _repr_html_(self) -> str:
        """For a notebook: its layers, a line each."""
        return model_table(self.file)

    @property
    def layers(self) -> tuple[str, ...]:
        """Names of the layers, in order."""
        return tuple(node.name for node in self.file.plan.nodes)

    @property
    def weights(self) -> Mapping[str, Mapping[str, NDArray[np.generic]]]:
        """Layer → array name → float32 array: kernels KH×KW×C×F, matrices in×out. Not to be changed in place."""
        return self.file.weights

    @property
    def thresholds(self) -> dict[str, float]:
        """Of several labels, from which probability each is said; empty where an image has one class."""
        return dict(zip(self.classes, self.file.thresholds, strict=True)) if self.file.several else {}

    def about(self, label: str) -> Model:
        """The same model asked about one of several labels: two classes, images without it and those with it.

        Raises
        ------
        BadUsage
            If it has no such label.
        """
        return Model(self.file.about(label))

    def predict(self, images: OneImage | Iterable[OneImage]) -> list[dict[str, float]]:
        """Probability of every class for each image.

        Parameters
        ----------
        images : image, or iterable of images
            Paths, folders (all images in them, by name), Pillow images, arrays; see `OneImage`. An array N×H×W×C is N
            images; of a file with several pages the first is one, or each, as it was for the model.

        Returns
        -------
        list of dict
            Class name → probability, one an image, also for a single one; empty for an empty list.

        Raises
        ------
        BadFile
            If one cannot be read.
        BadValue
            If an array is no image.
        """
        answers: list[dict[str, float]] = []
        pixels = self._all_pixels(images)
        with ThreadPool(1) as thread_pool:
            predictor = Predictor.of(self.file, thread_pool)
            for first in range(0, len(pixels), AT_ONCE):
                batch = predictor.prepare(np.stack(pixels[first : first + AT_ONCE]))
                answers += [by_class(self.classes, row) for row in predictor.checked(predictor.scores(batch))]
        return answers

    def explain(
        self, image: OneImage, target: str | None = None, method: str = DEFAULT.kind, **settings: object
    ) -> NDArray[np.float32]:
        """The map, H×W float32 at the input size, for a class; for the one the model says if none is named.

        ``settings`` are the method's own, as ``layer="relu 2"`` of class activation.
        """
        chosen = map_method(settings_of(method, settings), None, self.file.preprocessor.settings.names_of_channels)
        return class_map(self.file, self._one(image), chosen, target)

    def picture(self, image: OneImage, map_: NDArray[np.float32] | None = None, side: int = 256) -> Image.Image:
        """The image as the model sees it, and beside it a map of it as the window draws them; a notebook shows it.

        Parameters
        ----------
        image : image
            See `OneImage`.
        map_ : ndarray, H×W float32, optional
            From `explain`; without one the image stands alone.
        side : int
            Pixels of the picture's height, about.
        """
        pixels = self._one(image)
        shown = in_colour(pixels) if map_ is None else over_image(pixels, np.asarray(map_, np.float32))
        factor = max(1, side // len(shown))
        grown = shown.repeat(factor, axis=0).repeat(factor, axis=1)
        return Image.fromarray(grown)

    def feature_maps(self, image: OneImage, layer: str) -> NDArray[np.float32]:
        """A layer's output for one image: rows×columns×channels, or values, float32.

        Raises
        ------
        BadUsage
            If the model has no layer of that name.
        """
        if layer not in self.layers:
            raise unknown_word("layer", layer, frozenset(self.layers))
        prepared = self.file.preprocessor.apply(self._one(image)[None])[0]
        return np.asarray(feature_maps(self.file.network(), prepared, [layer])[layer])

    def _one(self, image: OneImage) -> PixelArray:
        pixels = self._all_pixels(image)
        if len(pixels) != 1:
            raise BadValue("One image is needed", f"{len(pixels)} were given", "Take one of them")
        return pixels[0]

    def _all_pixels(self, images: OneImage | Iterable[OneImage]) -> list[PixelArray]:
        """Every image at the input size."""
        if isinstance(images, np.ndarray) and images.ndim == 4:
            images = list(images)
        if isinstance(images, str | Path | Image.Image | np.ndarray):
            images = [images]
        parts: list[PixelArray] = []
        preprocessor = self.file.preprocessor
        for image in images:
            if isinstance(image, Image.Image):
                parts.append(preprocessor.resized(of_picture(image, preprocessor.pixel_format)))
            elif isinstance(image, np.ndarray):
                parts.append(preprocessor.resized(of_array(image, preprocessor.pixel_format)))
            elif isinstance(image, str | Path):
                names = image_files([Path(image)], preprocessor.pixel_format)
                parts += [preprocessor.picture(name).pixels for name in names]
            else:
                kind = type(image).__name__
                raise BadValue("There is something that is no image", f"it is a {kind}", "Give paths, images or arrays")
        return parts


def settings_of(method: str, settings: Mapping[str, object]) -> MapSettings:
    """A map method with settings of its own, by their names."""
    return read_kind("method", MAP_METHODS, {"kind": method, **settings})


def open_model(file: str | Path) -> Model:
    """Open a model file (.alens or .onnx); `BadFile` if it is none."""
    return Model(read_model(Path(file)))
