"""The images of an open workspace: as a plan splits them, in memory, browsed, decided about."""
