"""A plan file that explains itself: all of it is told, and all that is told is true."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import pytest

from attentive_lens.errors import BadValue, LensError
from attentive_lens.plan.augmentation import STEPS
from attentive_lens.plan.base import Base
from attentive_lens.plan.blocks import BLOCKS
from attentive_lens.plan.layers import LAYERS
from attentive_lens.plan.outline import commented, settings
from attentive_lens.plan.plan import CHOICES, SECTIONS, Plan
from attentive_lens.plan.starters import STARTERS


@pytest.mark.parametrize("name", STARTERS)
def test_a_plan_that_explains_itself_is_read_back_the_same(name: str) -> None:
    plan = Plan().changed({"network": name, "seed": 3, "base.run": 2, "base.until": "relu 1"})
    assert Plan.read(tomllib.loads(commented(plan))) == plan


def test_every_layer_block_and_change_is_told_and_can_be_taken_up() -> None:
    text = commented(Plan())
    uncommented = re.sub(r"^# (?=(\[\[?\w+\]\]?|\w+ = ).*$)", "", text, flags=re.MULTILINE)
    table = tomllib.loads(uncommented)
    assert {row["kind"] for row in table["augmentation"]} == set(STEPS)
    assert {row["layer"] for row in table["network"] if "layer" in row} == set(LAYERS)
    assert {row["block"] for row in table["network"] if "block" in row} == set(BLOCKS)
    for row in table["augmentation"]:
        kind = row.pop("kind")
        assert STEPS[kind].read(row) == STEPS[kind]()
        assert row.keys() == STEPS[kind].specs().keys()
    for row in table["network"]:
        known = LAYERS if "layer" in row else BLOCKS
        kind = row.pop("layer", "") or row.pop("block")
        own = {key: value for key, value in row.items() if key not in ("name", "after", "lr_multiplier")}
        assert known[kind].read(own).write().keys() == own.keys()
    assert set(table["base"]) == set(Base.specs())


def test_every_key_has_its_meaning_unit_and_allowed_words_before_it() -> None:
    lines = commented(Plan()).splitlines()
    for section in (*SECTIONS, *CHOICES):
        value = getattr(Plan(), section)
        for name, own in value.specs().items():
            at = next(k for k in range(lines.index(f"[{section}]"), len(lines)) if lines[k].startswith(f"{name} = "))
            assert own.meaning in lines[at - 1]
            assert own.unit in lines[at - 1]
            assert all(word in lines[at - 1] for word in own.choices)


def test_every_key_that_is_listed_is_taken_and_no_other() -> None:
    for own in settings():
        section, _, name = own.key.partition(".")
        if section in CHOICES and name:
            kind = next(k for k, value in CHOICES[section].items() if name in value.specs())
            made = (
                CHOICES[section][kind]() if name not in getattr(Plan(), section).specs() else getattr(Plan(), section)
            )
            value = tomllib.loads(f"v = {own.default}")["v"]
            assert getattr(Plan().changed({section: made.kind, own.key: value}), section) == made, own.key
        elif section != "base":
            assert Plan().changed({own.key: tomllib.loads(f"v = {own.default}")["v"]}) == Plan(), own.key
    keys = {own.key for own in settings()}
    assert len(keys) == len(settings())
    with pytest.raises(BadValue) as caught:
        Plan().changed({"nothing": 1})
    assert all(key in caught.value.remedy for key in keys)
    assert all(own.meaning.endswith(".") and own.allowed for own in settings())


def test_the_page_of_settings_is_the_list() -> None:
    page = (Path(__file__).parents[2] / "docs" / "settings.md").read_text("utf-8")
    for own in settings():
        row = next(line for line in page.splitlines() if line.startswith(f"| `{own.key}` |"))
        for part in (own.default, own.meaning, own.allowed):
            assert part in row, own.key


def test_nothing_is_trained_that_is_not_in_the_plan() -> None:
    network = Plan().network.write()
    assert Plan.read({"network": network}).augmentation == ()
    assert Plan.read({"network": "two blocks"}).network == STARTERS["two blocks"].network
    assert Plan.read({"network": "two blocks"}).name == "two blocks"
    for table in ({}, {"network": []}, {"training": {"epochs": 2}}):
        with pytest.raises(BadValue, match="has no network"):
            Plan.read(table)
    with pytest.raises(LensError, match="blocks"):
        Plan.read({"network": "for blocks"})
