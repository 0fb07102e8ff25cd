"""Parts of the Training stage."""
