"""What to know of the machine before it trains: that it runs on battery, or is hot already."""

from __future__ import annotations

import psutil

HOT = 100
"""Degrees Celsius from which a processor is hot where its maker names no limit."""


def caution_of_machine() -> str:
    """What to say of it; empty where nothing need be said, or nothing is known."""
    return " ".join(filter(None, (_battery(), _heat())))


def _battery() -> str:
    """Whether it runs on battery."""
    battery = psutil.sensors_battery() if hasattr(psutil, "sensors_battery") else None
    if battery is None or battery.power_plugged in (True, None):
        return ""
    return (
        f"This machine runs on battery, {battery.percent:.0f}% full: a run goes on after it, but not while it is off."
    )


def _heat() -> str:
    """Whether a sensor is at the limit its maker names."""
    groups = psutil.sensors_temperatures() if hasattr(psutil, "sensors_temperatures") else {}
    readings = (reading for group in groups.values() for reading in group)
    hot = [reading.current for reading in readings if reading.current >= (reading.high or HOT)]
    return f"The processor is at {max(hot):.0f} °C, and slows down to cool: training takes longer." if hot else ""
