"""Commands about images."""
