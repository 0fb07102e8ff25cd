"""Pictures of made-up things and materials, as many as one likes: what the base that ships was trained on.

`kinds` decides what a class is (an outline, a surface, a light), `drawing` draws one picture of it, `patterns` and
`outlines` are the tables that both choose from. Nothing here knows the pollen station.
"""

from __future__ import annotations

from pathlib import Path

MODELS = Path(__file__).parent
"""Folder of the model files that come with the program."""
