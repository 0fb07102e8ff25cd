from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import pytest

from attentive_lens.core.random import random_generator
from attentive_lens.core.values import Value, spec
from attentive_lens.errors import BadValue


@dataclass(frozen=True)
class Lamp(Value):
    title: ClassVar[str] = "lamp"
    power: float = spec(0.5, unit="W", low=0.0, high=2.0, meaning="Power.")
    steps: int = spec(3, low=1, meaning="Steps.")
    tint: str = spec("warm", choices=("warm", "cold"), meaning="Tint.")
    range: tuple[float, float] = spec((0.0, 1.0), low=-1.0, high=1.0, meaning="Range.")


def test_a_value_written_and_read_is_the_same() -> None:
    lamp = Lamp(power=1, steps=7, tint="cold", range=(-0.5, 0.25))
    assert Lamp.read(lamp.write()) == lamp
    assert isinstance(lamp.power, float)


@pytest.mark.parametrize(
    ("field", "value", "part"),
    [
        ("power", 3.0, "above the most, 2 W"),
        ("power", float("nan"), "not a number"),
        ("power", "much", "a number is needed"),
        ("steps", 0, "below the least, 1"),
        ("steps", 2.5, "a whole number is needed"),
        ("steps", True, "a whole number is needed"),
        ("tint", "worm", "warm"),
        ("range", (0.5, 0.1), "lower number first"),
        ("range", (0.5,), "two numbers"),
        ("range", (-3.0, 0.0), "below the least"),
    ],
)
def test_a_wrong_setting_is_refused_with_its_name_and_its_limit(field: str, value: object, part: str) -> None:
    with pytest.raises(BadValue) as caught:
        Lamp(**{field: value})
    assert f"lamp.{field}" in str(caught.value)
    assert part in str(caught.value)


def test_an_unknown_key_is_refused_with_the_nearest_known_one() -> None:
    with pytest.raises(BadValue, match="steps"):
        Lamp.read({"step": 3})


def test_random_numbers_depend_on_what_they_are_for_and_on_nothing_else() -> None:
    first = random_generator(7, "order", 2, 5).random(4).tolist()
    random_generator(7, "order", 2, 4).random(100)
    assert random_generator(7, "order", 2, 5).random(4).tolist() == first
    others = [
        random_generator(8, "order", 2, 5),
        random_generator(7, "ordes", 2, 5),
        random_generator(7, "order", 5, 2),
        random_generator(7, "order", 2),
    ]
    assert all(other.random(4).tolist() != first for other in others)
