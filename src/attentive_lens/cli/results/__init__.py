"""Commands about scores and answers."""
