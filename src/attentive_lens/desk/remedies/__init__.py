"""What to do next after a run: remedies from every side in one list, each with what it should gain."""
