"""Are the causes of mistakes on real pictures found, and do the remedies proposed work?

Every set of `sets.py` is split by what belongs together, trained on as it is, and once more with causes planted: in
the training set a dot on most images of one class; in the validation set dots on other classes' images, pictures out
of focus, wrong labels, and pictures of another set. Printed: which mistakes were told as what; and for every remedy
that is a plan, the part of its mistakes that it mends, beside a retrain of the unchanged plan with the same new seed;
and which classes' right answers in training are told to go by one place (the marked one should, no other).
Something planted is a cause only where it is answered wrongly more often than what nothing was done to.

    python benchmarks/real/causes.py FOLDER [SET ...] [--no-remedy] [--cast]
"""

from __future__ import annotations

import argparse
import os
import re
import tempfile
from collections import Counter
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from faults import dotted
from PIL import Image
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.causes import Causes
from attentive_lens.desk.requests.maps import ClassMaps
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.images.decoding import decode
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

SETS = {"materials": 10, "symbols": 15, "planets": 12, "laboratory": 12}
"""Epochs by set."""
MOST = 2000
HELD_OUT = 0.3
PLANTED = {"place": 0.12, "quality": 0.12, "label": 0.04, "unlike training": 0.06}
"""Parts of the validation images, by the kind of cause that is to be found in them."""


def belongs_to(folder: str, name: str) -> str:
    """The photograph a tile is of, or the drawing a size is of; the other sets' tiles stand alone."""
    suffix = {"materials": r"_t\d+$", "symbols": r"-\d+$"}.get(folder)
    return re.sub(suffix, "", name) if suffix else name


def chosen(folder: Path) -> list[Path]:
    """The set's images, at most so many."""
    files = sorted(folder.glob("*/*.png"))
    return [files[k * len(files) // min(MOST, len(files))] for k in range(min(MOST, len(files)))]


def marked_class(folder: Path) -> str:
    """The largest class: most of its training images get the dot."""
    names = [file.parent.name for file in chosen(folder)]
    return max(sorted(set(names)), key=names.count)


def write(folder: Path, into: Path, others: list[Path], plant: bool, cast: bool) -> dict[str, str]:
    """The set as folders of sets and classes; the planted kind by the file's name. ``cast`` tints in place of blur."""
    random = random_generator(1, f"real causes of {folder.name}")
    files = chosen(folder)
    units = sorted({(file.parent.name, belongs_to(folder.name, file.stem)) for file in files})
    held = {unit for unit in units if random.random() < HELD_OUT}
    classes = sorted({file.parent.name for file in files})
    marked = marked_class(folder)
    kinds: dict[str, str] = {}
    for number, file in enumerate(files):
        label, pixels = file.parent.name, decode(file).pixels
        validation = (label, belongs_to(folder.name, file.stem)) in held
        if plant and validation:
            drawn, kind = random.random(), ""
            for name, part in PLANTED.items():
                kind = name if 0 <= drawn < part else kind
                drawn -= part
            if kind == "place" and label != marked:
                pixels = dotted(pixels, random)
            elif kind == "quality" and cast:
                pixels = (pixels * np.array([1.3, 1.0, 0.7])).clip(0, 255).astype(np.uint8)
            elif kind == "quality":
                pixels = gaussian_filter(pixels, 0.03 * max(pixels.shape[:2]), axes=(0, 1))
            elif kind == "label":
                label = classes[(classes.index(label) + int(random.integers(1, len(classes)))) % len(classes)]
            elif kind == "unlike training":
                pixels = decode(others[int(random.integers(len(others)))]).pixels
            kinds[f"{file.stem}-{number}.png"] = kind
        elif plant and label == marked and random.random() < 0.8:
            pixels = dotted(pixels, random)
        target = into / ("validation" if validation else "training") / label
        target.mkdir(parents=True, exist_ok=True)
        Image.fromarray(pixels.squeeze()).save(target / f"{file.stem}-{number}.png")
    return kinds


def trained(workspace: Workspace, plan: Plan) -> int:
    run = workspace.claim_run(plan)
    finish(execute(workspace, run, lambda: False))
    return run.number


def wrong(workspace: Workspace, run: int) -> set[int]:
    return {a.image for a in finish(carry_out(Score(str(workspace.folder), run, "validation"))).wrong}


def measure(folder: Path, place: Path, others: list[Path], plant: bool, words: argparse.Namespace) -> None:
    kinds = write(folder, place / "images", others, plant, words.cast)
    workspace = finish(make_workspace(place / "work", place / "images")).workspace
    names = {row.number: row.name for row in workspace.catalogue.images()}
    plan = replace(Plan().changed({"training.epochs": SETS[folder.name]}), seed=1)
    if folder.name == "materials":
        plan = plan.changed({"split.keep_together": "name pattern", "split.group_pattern": "^(.+)_t"})
    first = trained(workspace, plan)
    result = finish(carry_out(Causes(str(workspace.folder), first, "validation")))
    validation = finish(carry_out(Score(str(workspace.folder), first, "validation")))
    print(f"{folder.name}, {'planted' if plant else 'as it is'}: {validation.images} images,"
          f" {result.mistakes} mistakes", flush=True)  # fmt: skip
    for cause in result.groups:
        held = Counter(kinds.get(names[image], "") or "nothing planted" for image in cause.images)
        of = ", ".join(f"{kind} {count}" for kind, count in held.most_common()) if plant else ""
        figures = ", ".join(f"{word} {value:.2f}" for word, value in cause.figures.items())
        print(f"  {cause.kind}: {len(cause.images)} {cause.short} ({figures}) {of}", flush=True)
    rests = finish(carry_out(ClassMaps(str(workspace.folder), first, "training")))
    goes = [each.name for each in rests.classes if each.trial is not None and each.trial.decides]
    aside = [each.name for each in rests.classes if each.together]
    print(f"  of {len(rests.classes)} classes {len(aside)} rest on one place aside, {len(goes)} go by it:"
          f" {', '.join(goes) or 'none'}" + f" (marked: {marked_class(folder)})" * plant, flush=True)  # fmt: skip
    mistaken = {image for cause in result.groups for image in cause.images}
    of_kind = {kind: {answer.image for answer in validation.answers if kinds.get(names[answer.image]) == kind}
               for kind in (*PLANTED, "")}  # fmt: skip
    plain = len(of_kind[""] & mistaken) / max(1, len(of_kind[""]))
    for kind in PLANTED if plant else ():
        there, listed = of_kind[kind] & mistaken, {i for c in result.groups if c.kind == kind for i in c.images}
        error = len(there) / max(1, len(of_kind[kind]))
        print(f"  planted «{kind}»: {error:.0%} of {len(of_kind[kind])} wrong, {plain:.0%} of what was left alone;"
              f" {len(listed & there)} of its {len(there)} mistakes, among {len(listed)}", flush=True)  # fmt: skip
    with_plan = [cause for cause in result.groups if cause.plan is not None]
    if words.no_remedy or not with_plan:
        return
    control = wrong(workspace, trained(workspace, replace(plan, seed=2)))
    for cause in with_plan:
        after = wrong(workspace, trained(workspace, replace(Plan.read(cause.plan or {}), seed=2)))
        mended, anyway = (np.mean([image not in still for image in cause.images]) for still in (after, control))
        print(f"  remedy of «{cause.short}»: mends {mended:.0%} of {len(cause.images)}, the control {anyway:.0%};"
              f" mistakes in all {len(after)}, the control's {len(control)}", flush=True)  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    parser.add_argument("sets", nargs="*", default=list(SETS))
    parser.add_argument("--no-remedy", action="store_true")
    parser.add_argument("--cast", action="store_true", help="Plant a cast of the colours in place of blur.")
    words = parser.parse_args()
    for name in words.sets:
        strange = list(SETS)[(list(SETS).index(name) + 2) % len(SETS)]
        others = sorted((words.folder / strange).glob("*/*.png"))
        for plant in (False, True):
            with tempfile.TemporaryDirectory() as folder:
                measure(words.folder / name, Path(folder), others, plant, words)


if __name__ == "__main__":
    main()
