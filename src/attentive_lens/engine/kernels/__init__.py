"""The inner loops: convolution, straight from the maps or by tiles, and what NumPy would need several passes for."""
