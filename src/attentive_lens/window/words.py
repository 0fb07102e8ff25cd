"""Numbers as people read them."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Sequence
from itertools import pairwise

THIN = "\u202f"


def thousands(number: int) -> str:
    """1 800: thousands separated by a thin space."""
    return f"{number:,}".replace(",", THIN)


def memory_size(count: int) -> str:
    """Bytes as 1.5 GB or 87 MB."""
    return f"{count / 1e9:.1f}{THIN}GB" if count >= 1e9 else f"{count / 1e6:.0f}{THIN}MB"


def counted(number: int, one: str, more: str) -> str:
    """1 run, 3 runs."""
    return f"{thousands(number)} {one if number == 1 else more}"


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


def main_figure(words: str) -> str:
    """What «91.3%», or «−1,234 nats», is in the window: 91.3 %, or −1 234 nats."""
    return words.replace("%", f"{THIN}%").replace(",", THIN)


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


def shortened(
    names: Sequence[str], width: float, measure: Callable[[str], float], among: Sequence[str] = ()
) -> list[str]:
    """Names that fit a width, each with the part that tells it from the others.

    What all names have in common at their ends is left out first, then the middle of what remains. Where that would
    leave two of them alike, a name keeps the letters at which it differs from the name most like it, and as many about
    them as fit. What is cut off is an ellipsis. ``measure`` gives the width of a text; ``among`` are the names to be
    told apart, if more than these.
    """
    if all(measure(name) <= width for name in names):
        return list(names)
    begin, end = _common_ends(among or names)
    if begin or end:
        every = {name: _without_ends(name, begin, end, width, measure) for name in dict.fromkeys((*names, *among))}
        if len(set(every.values())) == len(every) and all(measure(words) <= width for words in every.values()):
            return [every[name] for name in names]
    before = _likeness(among or names)
    after = _likeness([name[::-1] for name in among or names])
    return [
        name if measure(name) <= width else _cut(name, before.get(name, 0), after.get(name[::-1], 0), width, measure)
        for name in names
    ]


def _common_ends(names: Sequence[str]) -> tuple[int, int]:
    """Letters of the whole words that all names begin with, and that all end with; none of a single name."""
    different = set(names)
    if len(different) < 2:
        return 0, 0
    words = [name.split(" ") for name in different]
    least = min(map(len, words)) - 1
    begin = next((k for k in range(least) if len({each[k] for each in words}) > 1), least)
    left = least - begin
    end = next((k for k in range(left) if len({each[-1 - k] for each in words}) > 1), left)
    some = words[0]
    return len(" ".join([*some[:begin], ""])) if begin else 0, len(
        " ".join(["", *some[len(some) - end :]])
    ) if end else 0


def _without_ends(name: str, begin: int, end: int, width: float, measure: Callable[[str], float]) -> str:
    """A name that is too long without what all have at their ends, and without its middle where it must be."""
    if measure(name) <= width:
        return name
    rest = name[begin : len(name) - end]
    whole = f"{'…' if begin else ''}{rest}{'…' if end else ''}"
    if measure(whole) <= width:
        return whole

    def middle(letters: int) -> str:
        return f"{rest[: (letters + 1) // 2].rstrip()}…{rest[len(rest) - letters // 2 :].lstrip()}"

    fitting = bisect_right(range(len(rest)), width, key=lambda letters: measure(middle(letters))) - 1
    return middle(fitting) if fitting > 1 else name


def _likeness(names: Sequence[str]) -> dict[str, int]:
    """How many letters each name has in common, from its beginning, with the other name most like it."""
    counts, ordered = dict.fromkeys(names, 0), sorted(set(names))
    for a, b in pairwise(ordered):
        same = next((k for k, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
        counts[a], counts[b] = max(counts[a], same), max(counts[b], same)
    return counts


def _cut(name: str, before: int, after: int, width: float, measure: Callable[[str], float]) -> str:
    """A name's letters from ``before`` to ``after`` from its end, or the first of them, and as many about as fit."""
    first = min(before, len(name) - 1)
    last, end = first + 1, max(first + 1, len(name) - after)
    best = name[first:last]
    while True:
        words = ("…" if first > 0 else "") + name[first:last] + ("…" if last < len(name) else "")
        if measure(words) > width:
            return best
        best = words
        if first == 0 and last == len(name):
            return best
        if last < len(name) and (last < end or first == 0 or last - before <= before - first):
            last += 1
        else:
            first -= 1
