"""Maps of what drives an answer, whether to believe them, what layers look for, and what mistakes share.

`Probe` asks a network about many images at once, `Asked` says which numbers are explained, `METHODS` makes maps.
"""

from attentive_lens.explaining.probe import Asked, Probe
from attentive_lens.explaining.saliency import METHODS

__all__ = ["METHODS", "Asked", "Probe"]
