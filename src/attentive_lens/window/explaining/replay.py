"""Pinned evidence shown as it was, for the run in view."""

from __future__ import annotations

from attentive_lens.window.explaining.drawer import Drawer
from attentive_lens.window.explaining.map_choice import settings_of
from attentive_lens.window.explaining.twins import Twins
from attentive_lens.workspace.cases import Evidence

PANELS = {"maps": "Maps", "neighbours": "Neighbours", "change": "Change", "activations": "Activations"}
"""Kind of evidence → the panel that shows it."""


def show_again(evidence: Evidence, twins: Twins, drawer: Drawer) -> bool:
    """Bring it to the front with its settings; whether the map under the lens is to be asked for anew."""
    settings = evidence.settings
    if evidence.kind == "map":
        twins.chooser.take(settings_of(settings))
        twins.choose_target(str(settings.get("for", "")))
        return True
    if evidence.kind in PANELS:
        drawer.open_named(PANELS[evidence.kind])
    if evidence.kind == "maps":
        drawer.maps.replay(settings)
    elif evidence.kind == "neighbours":
        drawer.neighbours.replay(settings)
    elif evidence.kind == "change":
        drawer.change.replay(settings)
    elif evidence.kind == "activations":
        channel, factor = float(str(settings.get("channel", 0))), float(str(settings.get("factor", 1)))
        drawer.activations.replay(str(settings.get("layer", "")), int(channel), factor)
    return False
