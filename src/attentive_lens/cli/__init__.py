"""The command line: one face of the desk."""
