"""Which version this is."""

VERSION = "0.1.0"
