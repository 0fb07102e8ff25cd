"""Parts of the Explain stage."""
