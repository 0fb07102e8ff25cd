"""How good a model is, and on what."""
