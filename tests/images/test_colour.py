"""Grey pictures are told from coloured ones, and classes that colour alone gives away."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from attentive_lens.core.jobs import finish
from attentive_lens.images.faults import FAULTS, Evidence
from attentive_lens.plan.plan import Plan


def pictures(grey: list[bool]) -> Evidence:
    random = np.random.default_rng(0)
    pixels = random.integers(0, 255, (len(grey), 16, 16, 3)).astype(np.uint8)
    for k, colourless in enumerate(grey):
        if colourless:
            pixels[k] = pixels[k, :, :, :1] + np.array([0, 1, 0], np.uint8)
    labels = np.arange(len(grey)) % 3
    sizes = np.full((len(grey), 2), 16)
    return Evidence(pixels, labels, ("training",) * len(grey), ("spiny", "netted", "winged"), sizes)


def test_grey_pictures_are_offered_to_be_trained_as_such() -> None:
    (finding,) = finish(FAULTS["colour"].find(pictures([True] * 60)))
    assert finding.kind == "grey pictures"
    assert finding.actions[0].settings == {"preprocessing.colour_space": "grey"}
    assert finish(FAULTS["colour"].find(replace(pictures([True] * 60), trained_in="grey"))) == []
    assert finish(FAULTS["colour"].find(pictures([k % 4 == 0 for k in range(60)]))) == []
    (finding,) = finish(FAULTS["colour"].find(pictures([k % 3 == 0 for k in range(60)])))
    assert finding.kind == "grey classes"
    assert "all pictures of «spiny» are grey and all of «netted», «winged» are coloured" in finding.why
    assert len(finding.places) == 20


def test_settings_that_a_finding_offers_are_those_of_a_plan() -> None:
    (finding,) = finish(FAULTS["colour"].find(pictures([True] * 60)))
    assert Plan().changed(finding.actions[0].settings).preprocessing.channels == 1
