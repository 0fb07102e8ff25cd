"""Images: where they come from, how they are read, split, prepared and changed for training."""
