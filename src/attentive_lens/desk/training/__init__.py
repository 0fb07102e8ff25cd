"""Runs: made ready, executed, followed, steered, and what is to be said of them."""
