"""Files that carry a trained model."""
