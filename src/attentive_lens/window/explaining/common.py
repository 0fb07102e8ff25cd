"""Causes: what the mistakes have in common, and what the right answers of every class rest on."""

from __future__ import annotations

from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.explaining.classes import ClassesPanel
from attentive_lens.window.explaining.panel import PanelGroup


class CommonPanel(PanelGroup):
    """Of mistakes, and of right answers."""

    title = "Causes"
    tip = "What the mistakes have in common, and what the right answers rest on"
    members = (CausesPanel, ClassesPanel)
