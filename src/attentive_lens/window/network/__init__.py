"""Parts of the Network stage."""
