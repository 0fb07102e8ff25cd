"""Parts of the Results stage."""
