"""The plan being designed, and what it is built on."""
