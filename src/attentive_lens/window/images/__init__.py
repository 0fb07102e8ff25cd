"""The parts of the Images stage: browsing and deciding, sets, size and levels, the augmentation."""
