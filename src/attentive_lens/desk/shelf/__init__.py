"""The Shelf: models to build on, compare and hand on."""
