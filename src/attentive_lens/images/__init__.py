"""Images: where they come from, how they are read, parted, prepared and changed for training."""
