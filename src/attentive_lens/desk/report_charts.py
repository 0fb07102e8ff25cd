"""Charts of a report, as SVG that stands in its page: lines by epoch, and how often answers are right by how sure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

WIDE, HIGH, LEFT, RIGHT, TOP, BOTTOM = 520, 200, 48, 96, 14, 28
INK, LINE, FAINT = "#23292E", "#D9D3C7", "#5E6260"


@dataclass(frozen=True)
class Curve:
    """A named line of points x, y, in a colour, dashed or not."""

    name: str
    points: Sequence[tuple[float, float]]
    colour: str
    dashed: bool = False


def lines(title: str, curves: Sequence[Curve], as_percent: bool = False) -> str:
    """A chart by epoch; empty where there is nothing to draw."""
    every = [point for curve in curves for point in curve.points]
    if not every:
        return ""
    low_x, high_x = min(x for x, _ in every), max(x for x, _ in every)
    low_y, high_y = (0.0, 1.0) if as_percent else (min(0.0, *(y for _, y in every)), max(y for _, y in every))
    wide, high = WIDE - LEFT - RIGHT, HIGH - TOP - BOTTOM

    def at(x: float, y: float) -> tuple[float, float]:
        across = (x - low_x) / (high_x - low_x or 1)
        up = (y - low_y) / (high_y - low_y or 1)
        return LEFT + across * wide, TOP + (1 - up) * high

    parts = [f'<svg viewBox="0 0 {WIDE} {HIGH}" role="img" aria-label="{escape(title)}">']
    for k in range(5):
        value = low_y + (high_y - low_y) * k / 4
        _, y = at(low_x, value)
        words = f"{value * 100:.0f} %" if as_percent else f"{value:.2g}"
        parts.append(f'<line x1="{LEFT}" x2="{LEFT + wide}" y1="{y:.1f}" y2="{y:.1f}" stroke="{LINE}"/>')
        parts.append(_text(LEFT - 6, y + 4, words, "end"))
    for value in sorted({low_x, (low_x + high_x) // 2, high_x}):
        parts.append(_text(at(value, low_y)[0], HIGH - 8, f"{value:g}", "middle"))
    last_y = -100.0
    for curve in sorted(curves, key=lambda c: -c.points[-1][1] if c.points else 0.0):
        if not curve.points:
            continue
        places = " ".join(f"{x:.1f},{y:.1f}" for x, y in (at(*point) for point in curve.points))
        dash = ' stroke-dasharray="5 4"' if curve.dashed else ""
        parts.append(f'<polyline points="{places}" fill="none" stroke="{curve.colour}" stroke-width="2"{dash}/>')
        last_y = max(at(*curve.points[-1])[1], last_y + 15)
        parts.append(_text(LEFT + wide + 6, last_y + 4, curve.name, "start", curve.colour))
    parts.append("</svg>")
    return "".join(parts)


def calibration(points: Sequence[tuple[float, float, int]]) -> str:
    """How sure, how often right, and how many, for each bin, beside the line on which both are the same."""
    side = HIGH - TOP - BOTTOM
    most = max((count for _, _, count in points), default=0)
    if not most:
        return ""
    parts = [f'<svg viewBox="0 0 {LEFT + side + RIGHT} {HIGH}" role="img" aria-label="calibration">']
    parts.append(
        f'<line x1="{LEFT}" y1="{TOP + side}" x2="{LEFT + side}" y2="{TOP}" stroke="{FAINT}" stroke-dasharray="4 4"/>'
    )
    for share in (0.0, 0.5, 1.0):
        y = TOP + (1 - share) * side
        parts.append(f'<line x1="{LEFT}" x2="{LEFT + side}" y1="{y:.1f}" y2="{y:.1f}" stroke="{LINE}"/>')
        parts.append(_text(LEFT - 6, y + 4, f"{share * 100:.0f} %", "end"))
    for sure, right, count in points:
        radius = 3 + 6 * (count / most) ** 0.5
        x, y = LEFT + sure * side, TOP + (1 - right) * side
        parts.append(f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{radius:.1f}" fill="#0F6B72" fill-opacity="0.8"/>')
    parts.append(_text(LEFT + side / 2, HIGH - 8, "how sure (across), how often right (up)", "middle"))
    parts.append("</svg>")
    return "".join(parts)


def _text(x: float, y: float, words: str, anchor: str, colour: str = FAINT) -> str:
    return f'<text x="{x:.1f}" y="{y:.1f}" text-anchor="{anchor}" fill="{colour}" font-size="12">{escape(words)}</text>'
