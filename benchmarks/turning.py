"""Would the smallest step among an encoder's codes that turns an answer tell what is wrong with an image?

For images of a set that a run answers wrongly, and as many that it answers rightly, codes of an auto-encoder of the
same input size are moved until what is drawn of them is answered as wanted (wrong images: as labelled; right ones: as
the next class), by steps of a linearised classifier (Moosavi-Dezfooli 2016, algorithm 2) and then halved back to where
the answer turns. Printed is how often the classifier answers a drawing as it answers the image, how often a step is
found, its length for wrong and for right answers in deviations of the codes, and, where the workspace has an answer key
with marks, what part of the change lies on the mark, beside the part of the image that it takes and the part of a
gradient map that lies there.

    python benchmarks/turning.py WORKSPACE CLASSIFIER ENCODER [--on test] [--most 60]
"""

from __future__ import annotations

import argparse
import csv
import json
from pathlib import Path

import numpy as np

from attentive_lens.core.jobs import finish
from attentive_lens.desk.results.models import model_and_data, model_of
from attentive_lens.engine.encoding import Coder
from attentive_lens.engine.likelihoods import shown
from attentive_lens.engine.network import IMAGE
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

STEPS, HALVINGS, LONGEST = 60, 12, 0.5
"""Steps and halvings at most, and the longest step in deviations of the codes."""


class Turning:
    """A classifier that looks at what an encoder draws."""

    def __init__(self, coder: Coder, predictor: Predictor) -> None:
        self.coder, self.predictor = coder, predictor
        self.std = np.asarray(predictor.preprocessor.std, np.float32)

    def scores(self, codes: np.ndarray) -> np.ndarray:
        """Of what is drawn of codes 1×D."""
        return self.predictor.scores(self.predictor.preprocessor.apply(self.coder.decode(codes)))[0]

    def gradient(self, codes: np.ndarray, weights: np.ndarray) -> np.ndarray:
        """By codes 1×D, of the classes' scores weighed."""
        coder, network = self.coder, self.coder.network
        back = network.route(nodes=frozenset({coder.code}))
        trace = network.forward(
            coder.nothing(1), route=back, edited={coder.code: codes}, watch=frozenset({coder.drawn})
        )
        raw = trace.outputs[coder.drawn]
        pixels = shown(coder.drawing, raw)
        classifier = self.predictor.network
        way = classifier.route(image=True)
        seen = classifier.forward(self.predictor.preprocessor.apply(pixels), route=way)
        seed = self.predictor.output.gather(weights[None].astype(np.float32))
        by_pixel = classifier.backward(seen, {classifier.output: seed}, way)[0][IMAGE] / self.std
        return network.backward(trace, {coder.drawn: by_pixel * pixels * (1 - pixels)}, back)[0][coder.code]

    def map(self, image: np.ndarray, weights: np.ndarray) -> np.ndarray:
        """Gradient times input H×W of a prepared image 1×H×W×C, for the classes' scores weighed."""
        network = self.predictor.network
        way = network.route(image=True)
        seen = network.forward(image, route=way)
        seed = self.predictor.output.gather(weights[None].astype(np.float32))
        return np.abs(network.backward(seen, {network.output: seed}, way)[0][IMAGE] * image)[0].sum(axis=2)

    def step(self, codes: np.ndarray, wanted: int, spread: np.ndarray) -> np.ndarray | None:
        """Codes nearby of which what is drawn is answered as wanted; None if none is found."""
        here = codes.copy()
        for _ in range(STEPS):
            scores = self.scores(here)
            rival = int(np.where(np.arange(len(scores)) == wanted, -np.inf, scores).argmax())
            if scores[wanted] > scores[rival]:
                return self._halved(codes, here, wanted)
            weights = np.zeros(len(scores))
            weights[[wanted, rival]] = 1, -1
            way = self.gradient(here, weights) * spread**2  # in deviations of the codes
            slope = float(((way / spread) ** 2).sum())
            if slope < 1e-12:
                return None
            move = way * ((scores[rival] - scores[wanted]) * 1.05 + 1e-3) / slope
            length = float(np.linalg.norm(move / spread))
            here = here + move * np.float32(min(1.0, LONGEST / length))
        return None

    def _halved(self, begin: np.ndarray, end: np.ndarray, wanted: int) -> np.ndarray:
        low, high = 0.0, 1.0
        for _ in range(HALVINGS):
            middle = (low + high) / 2
            turned = int(self.scores(begin + np.float32(middle) * (end - begin)).argmax()) == wanted
            low, high = (low, middle) if turned else (middle, high)
        return begin + np.float32(high) * (end - begin)


def marks_of(workspace: Workspace, side: int) -> tuple[set[str], np.ndarray | None]:
    """Files with a mark, by the answer key, and where it stands."""
    key = workspace.folder / "answer-key"
    if not key.exists():
        return set(), None
    with (key / "key.csv").open(newline="") as stream:
        marked = {row["file"] for row in csv.DictReader(stream) if "mark" in row["faults"]}
    mark = json.loads((key / "made.json").read_text())["mark"]
    rows, columns = (np.mgrid[:side, :side] + 0.5) / side
    return marked, np.hypot(columns - mark["x"], rows - mark["y"]) < 1.5 * mark["radius"]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("workspace", type=Path)
    parser.add_argument("classifier", type=int)
    parser.add_argument("encoder", type=int)
    parser.add_argument("--on", default="test")
    parser.add_argument("--most", type=int, default=60)
    words = parser.parse_args()
    workspace = Workspace.open(words.workspace)
    run, other = workspace.run(words.classifier), workspace.run(words.encoder)
    model, data = finish(model_and_data(workspace, run))
    drawing = model_of(other.model)
    if drawing.preprocessor.settings.shape != model.preprocessor.settings.shape:
        raise SystemExit("both need the same input size")
    turning = Turning(Coder(drawing.network()), Predictor.of(model))
    coder, predictor = turning.coder, turning.predictor
    members = data.members(words.on)
    pixels = np.asarray(data.pixels[members])
    answers = np.concatenate(
        [predictor.scores(predictor.prepare(pixels[k : k + 64])) for k in range(0, len(pixels), 64)]
    )
    codes = np.concatenate(
        [coder.means(coder.encode(drawing.preprocessor.apply(pixels[k : k + 64]))) for k in range(0, len(pixels), 64)]
    )
    spread, labels, said = codes.std(axis=0)[None] + 1e-6, data.labels[members], answers.argmax(axis=1)
    again = np.array([int(turning.scores(code[None]).argmax()) for code in codes])
    wrong, right = (np.flatnonzero(each & (labels >= 0)) for each in (said != labels, said == labels))
    alike = [float(np.mean(again[places] == said[places])) for places in (wrong, right)]
    print(f"{words.on}: {len(members)} images, {len(wrong)} wrong")
    print(f"a drawing is answered as the image is: wrong {alike[0]:.0%}, right {alike[1]:.0%}")
    marked, place = marks_of(workspace, pixels.shape[1])
    random = np.random.default_rng(0)
    parts: dict[str, list[float]] = {"change": [], "map": []}
    for name, places in (("wrong", wrong), ("right", random.permutation(right))):
        lengths, tried = [], 0
        for k in places[: words.most]:
            if again[k] != said[k]:
                continue  # the drawing says another thing than the image: nothing is learned of the image
            order = np.argsort(-answers[k])
            wanted = int(labels[k]) if name == "wrong" else int(order[1])
            tried += 1
            turned = turning.step(codes[k][None], wanted, spread)
            if turned is None:
                continue
            lengths.append(float(np.linalg.norm((turned - codes[k]) / spread)))
            file = data.collection.rows[members[k]].file.partition("images/")[2]
            if name == "wrong" and place is not None and file in marked:
                moved = np.abs(coder.decode(turned) - coder.decode(codes[k][None]))[0].sum(axis=2)
                parts["change"].append(float(moved[place].sum() / moved.sum()))
                weights = np.zeros(len(order))
                weights[[int(said[k]), wanted]] = 1, -1
                map_ = turning.map(predictor.prepare(pixels[k][None]), weights)
                parts["map"].append(float(map_[place].sum() / map_.sum()))
        shown_ = f"median length {np.median(lengths):.2f} deviations" if lengths else "none"
        print(f"{name}: of {tried} tried {len(lengths)} turn, {shown_}")
    if place is not None and parts["change"]:
        change, by_map = (float(np.median(parts[word])) for word in ("change", "map"))
        print(f"of {len(parts['change'])} marked mistakes, on the mark, which is {place.mean():.1%} of the image:")
        print(f"of the change {change:.1%}, of gradient times input {by_map:.1%}")


if __name__ == "__main__":
    main()
