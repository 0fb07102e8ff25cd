"""Model files from anywhere: the forged ones of the benchmark, each refused with its own reason."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import attentive_lens as al
from attentive_lens.engine.network import Network
from attentive_lens.errors import BadFile, LensError
from attentive_lens.formats import reading
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.starters import STARTERS

ATTACKS = Path(__file__).parents[2] / "benchmarks" / "attacks"
sys.path.insert(0, str(ATTACKS))

import models  # noqa: E402

REASONS = {
    "a member twice": "twice",
    "an unknown member": "run.py",
    "packed by bzip2": "unknown way",
    "without card.json": "card.json is missing",
    "a bomb of a card": "far more than its own size",
    "a bomb of weights": "far more than its own size",
    "deep JSON": "3000 deep",
    "NaN in JSON": "NaN",
    "many layers": "50001 layers",
    "weights of 40 GB": "GiB",
    "giant maps": "GiB",
    "a layer called ..": "nothing to stand after",
    "a layer with a slash": "without slashes",
    "a circle": "no circles",
    "a class twice": "«a»",
    "an empty class": "printable",
    "too few classes": "do not go with",
    "an unknown output function": "none of softmax",
    "an output of other scores": "do not go with",
    "kernels of no layer": "kernels",
    "a standard deviation of zero": "above zero",
    "half precision": "one precision for all",
    "two precisions": "one precision for all",
    "NaN in weights": "not numbers",
    "another shape": "not of the shape",
    "an array too many": "belong to no layer",
    "an array too few": "are missing",
    "a lying header": "cut off",
}


@pytest.fixture(scope="module")
def hostile(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return models.cases(150, 3, tmp_path_factory.mktemp("hostile"))


@pytest.mark.parametrize("name", REASONS)
def test_a_forged_file_is_refused_with_its_reason(name: str, hostile: Path) -> None:
    with pytest.raises(BadFile) as caught:
        read_model(hostile / f"{name.replace('/', ' ')}.hostile")
    assert REASONS[name] in str(caught.value)


def test_opening_any_of_them_costs_little_and_never_ends_in_a_trace(hostile: Path) -> None:
    command = [sys.executable, str(ATTACKS / "models.py"), "--open", str(hostile)]
    result = json.loads(subprocess.run(command, capture_output=True, text=True, check=True, timeout=100).stdout)
    assert result["faults"] == []
    assert sum(result["found"].values()) == 150
    assert result["found"]["refused"] > 100
    assert result["memory"] < 1, "more than three times the file and 64 MB"


def overflowing(file: Path) -> Path:
    preprocessing = Preprocessing(input_size=16)
    network = Network.start(STARTERS["two blocks"].network.with_outputs(2), preprocessing.shape, 1)
    for arrays in network.weights.values():
        for array in arrays.values():
            array[...] = 3e38
    ModelFile(network.plan, network.weights, Preprocessor.plain(preprocessing), ("a", "b")).write(file)
    return file


def test_answers_that_are_no_numbers_are_a_failure_in_a_sentence(tmp_path: Path) -> None:
    model = al.open_model(overflowing(tmp_path / "m.alens"))
    with pytest.raises(LensError, match="gives no answer"):
        model.predict(np.full((16, 16, 3), 200, np.uint8))
    with pytest.raises(LensError, match="gives no answer"):
        model.explain(np.full((16, 16, 3), 200, np.uint8))


def test_memory_that_is_not_there_is_not_asked_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = models.good(tmp_path / "good.alens")
    read_model(file)
    monkeypatch.setattr(reading.psutil, "virtual_memory", lambda: type("Free", (), {"available": 1 << 20}))
    with pytest.raises(BadFile, match="running it needs"):
        read_model(file)
