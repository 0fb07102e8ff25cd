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


def with_spots(count: int, of_class: int | None) -> tuple[Evidence, set[int]]:
    """300 grey pictures of 32 pixels, some with a small blue spot."""
    evidence = pictures([True] * 300)
    pixels = np.repeat(np.repeat(evidence.pixels[:], 2, axis=1), 2, axis=2)
    able = [k for k in range(300) if of_class is None or k % 3 == of_class]
    places = able[:: max(1, len(able) // count)][:count]
    for k in places:
        pixels[k, 5:7, 5:7] = (40, 60, 200)
    return replace(evidence, pixels=pixels), set(places)


def test_a_few_coloured_pictures_among_grey_ones_are_named_with_their_class() -> None:
    evidence, places = with_spots(40, 1)
    (finding,) = finish(FAULTS["colour"].find(evidence))
    assert finding.kind == "coloured among grey"
    assert set(finding.places) == places
    assert "40 images of 300 have colour, and all others are grey" in finding.why
    tinted = evidence.pixels.copy()
    pale = [k for k in range(300) if k not in places][:15]
    tinted[pale, ..., 2] = np.minimum(tinted[pale, ..., 2], 240) + 8
    tinted[pale, ..., 0] = tinted[pale, ..., 1] = tinted[pale, ..., 2] - 8
    (partly,) = finish(FAULTS["colour"].find(replace(evidence, pixels=tinted)))
    assert "40 images of 300 have colour, and 245 are grey" in partly.why, "15 have a pale tint"
    assert "40 of them among the 100 of «netted»" in finding.why
    assert [action.settings for action in finding.actions if action.settings] == [
        {"preprocessing.colour_space": "grey"}
    ]
    (plain,) = finish(FAULTS["colour"].find(with_spots(42, None)[0]))
    assert "among" not in plain.why.partition("have colour")[2], "as many of every class"
    spotted, grey = finish(FAULTS["colour"].find(with_spots(3, 0)[0]))
    assert (spotted.kind, grey.kind) == ("coloured among grey", "grey pictures")
    assert "297 images of 300 are grey" in grey.why
    (alone,) = finish(FAULTS["colour"].find(replace(evidence, trained_in="grey")))
    assert [action.word for action in alone.actions] == ["flag them"]


def test_what_packing_does_to_grey_is_no_colour() -> None:
    evidence = pictures([True] * 300)
    noise = np.random.default_rng(3).integers(-9, 10, evidence.pixels[:].shape)
    packed = evidence.pixels[:].astype(int) // 2 + 60 + noise * (np.arange(300) % 40 == 0)[:, None, None, None]
    findings = finish(FAULTS["colour"].find(replace(evidence, pixels=packed.astype(np.uint8))))
    assert "coloured among grey" not in [finding.kind for finding in findings]
