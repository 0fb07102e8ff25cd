"""A plan file that explains itself: all of it is told, and all that is told is true."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import pytest

from attentive_lens.errors import BadUsage, BadValue, LensError
from attentive_lens.plan.augmentation import STEPS
from attentive_lens.plan.base import Base
from attentive_lens.plan.blocks import BLOCKS
from attentive_lens.plan.layers import LAYERS
from attentive_lens.plan.nodes import Learning
from attentive_lens.plan.outline import commented, settings
from attentive_lens.plan.plan import CHOICES, DRAWING, PAIRED, SECTIONS, Plan
from attentive_lens.plan.starters import STARTERS


@pytest.mark.parametrize("name", [*STARTERS, *DRAWING])
def test_a_plan_that_explains_itself_is_read_back_the_same(name: str) -> None:
    started = Plan().changed({"network": name, "seed": 3})
    plan = started.changed({"base.run": 2, "base.until": started.network.nodes[1].name})
    assert Plan.read(tomllib.loads(commented(plan))) == plan


@pytest.mark.parametrize("name", [*STARTERS, *DRAWING])
def test_what_has_no_part_in_a_plan_is_left_out(name: str) -> None:
    plan = Plan().changed({"network": name})
    table = tomllib.loads(commented(plan))
    for key in plan.idle:
        section, _, setting = key.partition(".")
        assert setting not in table.get(section, {}) if setting else section not in table, key
    assert ("loss" in table) is not plan.task.draws


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
    pair = Plan().changed({"network": "generator"})
    for own in settings():
        section, _, name = own.key.partition(".")
        start = pair if section in PAIRED else Plan()
        value = tomllib.loads(f"v = {own.default}")["v"] if own.default else None
        if section in start.choices and name:
            rows = start.choices[section]
            kind = next(k for k, known in rows.items() if name in known.specs())
            made = rows[kind]() if name not in getattr(start, section).specs() else getattr(start, section)
            changed = getattr(start.changed({section: made.kind, own.key: value}), section)
            assert changed.kind == made.kind
            assert getattr(changed, name) == getattr(made, name) == value, own.key
        elif section != "base":
            assert start.changed({own.key: value}) == start, own.key
    keys = {own.key for own in settings()}
    assert len(keys) == len(settings())
    for start in (Plan(), pair):
        with pytest.raises(BadValue) as caught:
            start.changed({"nothing": 1})
        named = {key for key in keys if key.partition(".")[0] not in PAIRED or start.task.is_pair}
        assert all(key in caught.value.remedy for key in named)
    assert all(own.meaning.endswith(".") and own.allowed for own in settings())


def test_settings_of_a_discriminator_are_taken_by_pairs_alone() -> None:
    for section, rows in PAIRED.items():
        for start in (Plan(), Plan().changed({"network": "variational"})):
            for settings_ in ({section: next(iter(rows))}, {f"{section}.kind": next(iter(rows))}):
                with pytest.raises(BadUsage, match="network=generator"):
                    start.changed(settings_)
            with pytest.raises(BadUsage, match="network=generator"):
                Plan.read({**start.write(), section: {"kind": next(iter(rows))}})
            assert section not in start.write()
            assert f"[{section}]" not in commented(start)
    pair = Plan().changed({"network": "generator", "discriminator_optimiser.learning_rate": 0.01})
    assert pair.discriminator_optimiser.learning_rate == 0.01
    assert Plan.read(tomllib.loads(commented(pair))) == pair


def test_what_a_pair_brings_goes_with_it_and_what_was_set_by_hand_stays() -> None:
    for back in ({"network": "three blocks"}, {"task": "classify"}):
        assert Plan().changed({"network": "generator"}).changed(back) == Plan()
    by_hand = Plan().changed({"network": "generator"}).changed({"optimiser.learning_rate": 0.005, "averaging": "none"})
    left = by_hand.changed({"network": "variational"})
    assert left.optimiser.learning_rate == 0.005
    assert left.initialisation == Plan().initialisation
    assert left.task.kind == "encode"


def test_every_number_says_what_is_usual_and_what_its_ends_do() -> None:
    kinds = [*LAYERS.values(), *BLOCKS.values(), *STEPS.values(), Base, Learning]
    kinds += [kind for table in (CHOICES | PAIRED).values() for kind in table.values()]
    kinds += [type(getattr(Plan(), section)) for section in SECTIONS]
    silent, seen = [], 0
    for kind in kinds:
        for name, shown in kind.specs().items():
            if kind.types()[name] in (str, bool, tuple[str, ...]):
                assert not shown.ends, (kind, name)
                continue
            seen += 1
            if not re.match(r"Usual(ly)?: |[A-Z0-9].+\.$", shown.ends) or not shown.ends.endswith("."):
                silent.append(f"{kind.__name__}.{name}")
            assert shown.tip == f"{shown.meaning}\n{shown.ends}" and len(shown.ends) < 240
    assert silent == [] and seen > 150
    usual = [each for each in settings() if each.ends.startswith("Usual: ")]
    assert len(usual) > 55


def test_the_page_of_settings_is_the_list() -> None:
    page = (Path(__file__).parents[2] / "docs" / "reference" / "settings.md").read_text("utf-8")
    for own in settings():
        row = next(line for line in page.splitlines() if line.startswith(f"| `{own.key}` |"))
        for part in (own.default, own.meaning, own.allowed, own.ends):
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
