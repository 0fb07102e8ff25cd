"""Numbers as people read them."""

from __future__ import annotations

THIN = "\u2009"


def thousands(number: int) -> str:
    """1 800: thousands separated by a thin space."""
    return f"{number:,}".replace(",", THIN)


def short(number: float) -> str:
    """286 k, 4.7 M: three figures at most."""
    for size, unit in ((1e9, "G"), (1e6, "M"), (1e3, "k")):
        if number >= size:
            value = number / size
            return f"{thousands(round(value))}{THIN}{unit}" if value >= 100 else f"{value:.1f}{THIN}{unit}"
    return f"{number:.0f}"


def percent(part: float) -> str:
    """91.3 %."""
    return f"{part * 100:.1f}{THIN}%"


def duration(seconds: float) -> str:
    """8 s, 1 min 33 s, 2 h 5 min."""
    whole = round(seconds)
    if whole < 60:
        return f"{whole}{THIN}s"
    if whole < 3600:
        return f"{whole // 60}{THIN}min {whole % 60}{THIN}s"
    return f"{whole // 3600}{THIN}h {whole % 3600 // 60}{THIN}min"


def shape(numbers: tuple[int, ...]) -> str:
    """64×64×3, 4 096."""
    return "×".join(thousands(n) if len(numbers) == 1 else str(n) for n in numbers)


def answer_tip(output: str) -> str:
    """What the figure beside an answer is, by the model's output function."""
    return {
        "softmax": "Probability, by softmax: all classes together make 1.",
        "sigmoid": "Probability of this class by itself, by sigmoid: the classes need not make 1.",
        "one sigmoid": "Probability, by the sigmoid of one score.",
        "none": "Raw score: the loss was a distance, and makes no probabilities.",
    }[output]
