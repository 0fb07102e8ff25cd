"""Commands about plans and runs."""
