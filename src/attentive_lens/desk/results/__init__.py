"""How good runs are: scores, comparisons, answers to new images, and these written down."""
