"""Which version this is, and from which day."""

VERSION, RELEASED = "0.1.0", "2026-12-02"
