"""Every module that has commands, imported so that the application knows them."""

from attentive_lens.cli import (
    cases,
    collecting,
    commands,
    comparing,
    explaining,
    inspecting,
    mapping,
    planning,
    predicting,
    reporting,
    robustness,
    scoring,
    searching,
    steering,
)

MODULES = (
    cases,
    collecting,
    commands,
    comparing,
    explaining,
    inspecting,
    mapping,
    planning,
    predicting,
    reporting,
    robustness,
    scoring,
    searching,
    steering,
)
