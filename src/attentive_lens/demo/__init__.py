"""The pollen station: made-up images with the faults of real data, and the answer key to them."""
