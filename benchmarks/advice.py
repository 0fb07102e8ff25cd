"""Does the advice name the trouble that a run has, and keep silent where there is none?

Runs are made to fail in known ways on a collection of images in a folder a class; each tells which advice it must
get, and which besides is no false alarm. Printed is what every run got. Trained runs are kept in the folder: a second
call judges them anew.

    python benchmarks/advice.py FOLDER IMAGES [--most 1500] [--only WORD]
"""

from __future__ import annotations

import argparse
import contextlib
import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import LensError
from attentive_lens.plan.augmentation import Erasing, Noise, Rotate, Scale, Translate
from attentive_lens.plan.layers import (
    BatchNormalisation,
    Convolution,
    Dropout,
    Flatten,
    GlobalPooling,
    MaxPooling,
    Output,
    Relu,
    Sigmoid,
    Tanh,
)  # fmt: skip
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

BASE = Plan().changed({"network": "two blocks", "preprocessing.input_size": 32, "training.epochs": 20, "seed": 3})
LARGE = {"preprocessing.input_size": 64, "training.epochs": 30}
STRONG = (
    Rotate(range=(-180.0, 180.0), probability=1.0),
    Translate(range=(-0.4, 0.4), probability=1.0),
    Scale(range=(0.4, 2.5), probability=1.0),
    Noise(probability=1.0),
    Erasing(probability=1.0),
)


def deep(activation: type[Any], layers: int, normalised: bool = False) -> NetworkPlan:
    """A plain stack of convolutions."""
    parts: list[Any] = []
    for k in range(layers):
        parts += [Convolution(filters=16), *([BatchNormalisation()] if normalised else []), activation()]
        if k in (1, 3):
            parts.append(MaxPooling())
    return NetworkPlan.stack([*parts, GlobalPooling(), Output()])


TINY = NetworkPlan.stack([Convolution(filters=2), Relu(), GlobalPooling(), Output()])
DROPPED = NetworkPlan.stack(
    [Convolution(filters=8), Relu(), Dropout(rate=0.9), MaxPooling(), Flatten(), Dropout(rate=0.9), Output()]
)


@dataclass(frozen=True)
class Case:
    """A run made to fail, what it must be told (alternatives by bars), and what it may be told besides."""

    name: str
    must: tuple[str, ...]
    settings: dict[str, Any]
    may: tuple[str, ...] = ()
    data: str = "plain"
    plan: Callable[[Plan], Plan] = lambda plan: plan


def network(nodes: NetworkPlan) -> Callable[[Plan], Plan]:
    return lambda plan: plan.with_network(nodes)


CASES = (
    Case("sound three blocks", (), {"network": "three blocks", **LARGE}),
    Case("sound three blocks cosine", (), {"network": "three blocks", "schedule": "cosine", **LARGE}),
    Case("sound normalised", (), {"network": "normalised blocks", "schedule": "one cycle", **LARGE}),
    Case("sound residual", (), {"network": "residual", "schedule": "one cycle", **LARGE}),
    Case("sound sgd", (), {"network": "three blocks", "optimiser": "sgd", "optimiser.learning_rate": 0.01, **LARGE}),
    Case("diverges adam", ("divergence",), {"optimiser.learning_rate": 3.0}),
    Case("diverges sgd", ("divergence",), {"optimiser": "sgd", "optimiser.learning_rate": 5.0}),
    Case("diverges rmsprop", ("divergence",), {"optimiser": "rmsprop", "optimiser.learning_rate": 1.0}),
    Case("rate high adam", ("rate too high",), {"optimiser.learning_rate": 0.03}),
    Case("rate high sgd", ("rate too high|divergence",), {"optimiser": "sgd", "optimiser.learning_rate": 0.3}),
    Case("rate high normalised", ("rate too high",), {"network": "normalised blocks", "optimiser.learning_rate": 0.3}),
    Case("rate low adam", ("rate too low",), {"optimiser.learning_rate": 3e-6}),
    Case("rate low sgd", ("rate too low",), {"optimiser": "sgd", "optimiser.learning_rate": 1e-5}),
    Case("rate low normalised", ("rate too low",), {"network": "normalised blocks", "optimiser.learning_rate": 1e-6}),
    Case("batch large", ("batch size",), {"training.batch_size": 512}),
    Case("batch large sgd", ("batch size",), {"training.batch_size": 256, "optimiser": "sgd"}),
    Case("batch tiny", ("batch size",), {"training.batch_size": 1, "training.epochs": 8}),
    Case("batch tiny two", ("batch size",), {"training.batch_size": 2, "training.epochs": 8, "optimiser": "sgd"}),
    Case("over-fits", ("over-fitting",), {"augmentation": "none", "split.subset_fraction": 0.2, "training.epochs": 60}),
    Case("over-fits wide", ("over-fitting",),
         {"augmentation": "none", "split.subset_fraction": 0.3, "network": "three blocks", "training.epochs": 50}),
    Case("under-fits", ("under-fitting|plateau",), {"training.epochs": 40, "optimiser.learning_rate": 0.01},
         ("under-fitting", "plateau"), plan=network(TINY)),
    Case("under-fits dropped", ("under-fitting",), {"training.epochs": 30, "optimiser.learning_rate": 0.002},
         ("plateau",), plan=network(DROPPED)),
    Case("dead momentum", ("dead units|rate too high",),
         {"optimiser": "sgd", "optimiser.learning_rate": 0.05, "optimiser.momentum": 0.95}),
    Case("dead rate", ("dead units|rate too high|divergence",),
         {"optimiser": "sgd", "optimiser.learning_rate": 0.15, "network": "three blocks"}),
    Case("vanishing sigmoid", ("vanishing gradients",), {"optimiser": "sgd", "optimiser.learning_rate": 0.05},
         plan=network(deep(Sigmoid, 8))),
    Case("vanishing small start", ("vanishing gradients",),
         {"initialisation": "normal", "initialisation.std": 0.01, "optimiser": "sgd"}, plan=network(deep(Tanh, 8))),
    Case("exploding", ("exploding gradients",),
         {"initialisation": "normal", "initialisation.std": 0.5, "optimiser.learning_rate": 1e-4},
         plan=network(deep(Relu, 8))),
    Case("exploding wide", ("exploding gradients",),
         {"initialisation": "normal", "initialisation.std": 0.4, "optimiser.learning_rate": 1e-4},
         plan=network(deep(Relu, 10))),
    Case("plateau small", ("plateau|under-fitting",),
         {"training.epochs": 50, "optimiser": "sgd", "optimiser.learning_rate": 0.02}, plan=network(TINY)),
    Case("plateau adam", ("plateau|rate too high|dead units",),
         {"training.epochs": 40, "optimiser.learning_rate": 0.01}),
    Case("class ignored", ("class ignored|imbalance",), {"training.epochs": 10}, data="rare"),
    Case("class ignored sgd", ("class ignored|imbalance",), {"optimiser": "sgd", "training.epochs": 10}, data="rare"),
    Case("imbalance", ("imbalance|class ignored",), {"training.epochs": 25, "network": "three blocks"}, data="rare"),
    Case("still improving", ("still improving",), {"optimiser.learning_rate": 3e-4, "training.epochs": 8}),
    Case("still improving sgd", ("still improving|under-fitting",), {"optimiser": "sgd", "training.epochs": 8}),
    Case("augmentation strong", ("augmentation too strong",), {"training.epochs": 25},
         plan=lambda plan: plan.with_augmentation(STRONG)),
    Case("augmentation strong three", ("augmentation too strong",), {"network": "three blocks", "training.epochs": 25},
         plan=lambda plan: plan.with_augmentation(STRONG[:3])),
    Case("augmentation weak", ("augmentation of no effect",),
         {"split.subset_fraction": 0.3, "training.epochs": 50},
         plan=lambda plan: plan.with_augmentation((Rotate(range=(-2.0, 2.0)),))),
    Case("not normalised", ("input not normalised",),
         {"preprocessing.normalisation": "0-1", "optimiser": "sgd", "optimiser.learning_rate": 0.003}, data="faint"),
    Case("not normalised adam", ("input not normalised",), {"preprocessing.normalisation": "0-1"}, data="faint"),
)  # fmt: skip


BY_DEFINITION = ("validation noise", "still improving", "class ignored", "imbalance")
"""Advice that states what its figures are, so that it is no false alarm wherever it is given."""


def collection(folder: Path, source: Path, data: str, most: int) -> Workspace:
    """A workspace on some of the images: as they are, with three classes made rare, or nearly without contrast."""
    place = folder / data
    if (place / "workspace.toml").exists():
        return Workspace.open(place)
    kinds = [kind for kind in sorted(source.iterdir()) if kind.is_dir()]
    images = place / "pictures"
    for number, kind in enumerate(kinds):
        files = sorted(kind.rglob("*.png")) + sorted(kind.rglob("*.jpg"))
        take = max(6, most // len(kinds))
        if data == "rare" and number % 2:
            take = max(12, take // 12)
        chosen = np.random.default_rng(number).permutation(len(files))[:take]
        (images / kind.name).mkdir(parents=True)
        for k in chosen.tolist():
            target = images / kind.name / files[k].name
            if data == "faint":
                try:
                    with Image.open(files[k]) as picture:
                        values = np.asarray(picture.convert("RGB"), np.float32)
                except OSError:
                    continue  # collections hold files that are none
                Image.fromarray((215 + 0.12 * (values - 128)).astype(np.uint8)).save(target.with_suffix(".png"))
            else:
                shutil.copy(files[k], target)
    return finish(make_workspace(place, images)).workspace


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    parser.add_argument("images", type=Path)
    parser.add_argument("--most", type=int, default=1500)
    parser.add_argument("--only", default="")
    words = parser.parse_args()
    words.folder.mkdir(parents=True, exist_ok=True)
    missed = false = expected = 0
    for case in CASES:
        if words.only not in case.name:
            continue
        workspace = collection(words.folder, words.images, case.data, words.most)
        plan = replace(case.plan(BASE.changed(case.settings)), name=case.name)
        run = next((run for run in workspace.runs() if run.plan() == plan), None)
        if run is None:
            run = workspace.claim_run(plan)
            with contextlib.suppress(LensError):
                finish(execute(workspace, run, lambda: False))
        view = RunReader(run).view()
        predicted = [finding.kind for finding in advice_of(workspace, run, view)]
        absent = [kinds for kinds in case.must if not set(kinds.split("|")) & set(predicted)]
        right = {*BY_DEFINITION, *case.may, *(kind for kinds in case.must for kind in kinds.split("|"))}
        wrong = [kind for kind in predicted if kind not in right]
        missed, false, expected = missed + len(absent), false + len(wrong), expected + len(case.must)
        best = view.best.validation.accuracy if view.best is not None and view.best.validation is not None else 0.0
        print(f"{case.name:28} {best:6.1%}  {', '.join(predicted):60} {'MISSED ' + ', '.join(absent) if absent else ''}"
              f" {'also ' + ', '.join(wrong) if wrong else ''}", flush=True)  # fmt: skip
    print(f"named {expected - missed} of {expected}; {false} more than expected")


if __name__ == "__main__":
    main()
