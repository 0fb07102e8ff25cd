"""Commands that explain."""
