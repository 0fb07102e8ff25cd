"""The scripting face: what the window does, from Python.

```python
import attentive_lens as al

model = al.open_model("pollen-station/runs/0001/checkpoints/best.alens")
answers = model.predict(["grain.png"])
map_ = model.explain("grain.png", target="spiny")
al.open_workspace("pollen-station").runs()[-1].model
```
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk import tasks
from attentive_lens.engine.batches import scores
from attentive_lens.engine.crew import Crew
from attentive_lens.engine.losses import softmax
from attentive_lens.errors import BadFile
from attentive_lens.explaining.saliency import DEFAULT
from attentive_lens.formats.bundle import ModelFile, read_model
from attentive_lens.images.decoding import SUFFIXES, decode
from attentive_lens.images.preparation import to_square
from attentive_lens.plan.progress import finish
from attentive_lens.workspace import Workspace


def image_files(places: Sequence[Path]) -> list[Path]:
    """The files named, and those inside the folders named, in order; a file is taken whatever its ending.

    Raises
    ------
    BadFile
        If a place does not exist, or a folder holds no images.
    """
    files: list[Path] = []
    for place in places:
        if place.is_dir():
            inside = sorted(f for f in place.rglob("*") if f.suffix.lower() in SUFFIXES and f.is_file())
            if not inside:
                raise BadFile(f"{place} holds no images", "no file in it ends like one", "Name another folder")
            files += inside
        elif place.exists():
            files.append(place)
        else:
            raise BadFile(f"{place} could not be read", "there is no such file", "Check the path")
    return files


class Model:
    """A trained model.

    Parameters
    ----------
    file : ModelFile
        As read.
    """

    def __init__(self, file: ModelFile) -> None:
        self.file = file
        self.classes = file.classes
        self.card = file.card

    def predict(self, images: Sequence[str | Path | NDArray[np.uint8]]) -> list[dict[str, float]]:
        """Probability of every class for each image: paths, or H×W×3 uint8 arrays of any size.

        Raises
        ------
        BadFile
            If one cannot be read.
        """
        batch = self.file.levels.apply(np.stack([self._pixels(image) for image in images]))
        with Crew(1) as crew:
            rows = softmax(scores(self.file.network(), batch, crew))
        return [{name: float(p) for name, p in zip(self.classes, row, strict=True)} for row in rows]

    def explain(
        self, image: str | Path | NDArray[np.uint8], target: str | None = None, method: str = DEFAULT
    ) -> NDArray[np.float32]:
        """The map, S×S float32 at the working size, for a class; for the one the model says if none is named."""
        _, arrays = tasks.explain_pixels(self.file, self._pixels(image), method, None, target)
        return arrays["map for" if target is not None else "map said"]

    def _pixels(self, image: str | Path | NDArray[np.uint8]) -> NDArray[np.uint8]:
        pixels = image if isinstance(image, np.ndarray) else decode(Path(image)).pixels
        return to_square(pixels, self.file.preparation)


def open_model(file: str | Path) -> Model:
    """Open a model file (.alens)."""
    return Model(read_model(Path(file)))


def open_workspace(folder: str | Path) -> Workspace:
    """Open a workspace."""
    return Workspace.open(Path(folder))


def score(workspace: str | Path, run: int, on: str = "validation") -> Any:
    """Scores of a run, see `scoring.scores.Scores`."""
    return tasks.as_scores(finish(tasks.score(str(workspace), run, on)).values)
