"""What the pages are made of."""
