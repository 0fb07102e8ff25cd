"""The training loop, its journal and its checkpoints."""
